// SPDX-License-Identifier: GPL-2.0-only
/* Where the scale of a pier begins: kept apart, since other sensors will ask for it too. */
#include <linux/module.h>
#include <linux/of.h>

#include "tide_zero.h"

int tide_zero(const struct device_node *node, u32 *millimetres)
{
	return of_property_read_u32(node, "harbour,zero-mm", millimetres);
}
EXPORT_SYMBOL_GPL(tide_zero);

MODULE_DESCRIPTION("Zero of a pier's tide scale");
MODULE_LICENSE("GPL");
