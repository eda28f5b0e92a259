// SPDX-License-Identifier: GPL-2.0-only
/* Pressure sensor below a pier: finds itself in the device tree, and says where its scale begins. */
#include <linux/mod_devicetable.h>
#include <linux/module.h>
#include <linux/platform_device.h>

#include "tide_zero.h"

static int tide_sensor_probe(struct platform_device *device)
{
	unsigned int zero;
	int error = tide_zero(device->dev.of_node, &zero);

	if (error)
		return dev_err_probe(&device->dev, error, "the device tree does not say where the scale begins\n");
	dev_warn(&device->dev, "scale begins at %u mm\n", zero);
	return 0;
}

static const struct of_device_id tide_sensor_ids[] = {
	{ .compatible = "harbour,tide-sensor" },
	{ }
};
MODULE_DEVICE_TABLE(of, tide_sensor_ids);

static struct platform_driver tide_sensor_driver = {
	.probe = tide_sensor_probe,
	.driver = { .name = "tide-sensor", .of_match_table = tide_sensor_ids },
};
module_platform_driver(tide_sensor_driver);

MODULE_DESCRIPTION("Pressure sensor below a pier");
MODULE_LICENSE("GPL");
