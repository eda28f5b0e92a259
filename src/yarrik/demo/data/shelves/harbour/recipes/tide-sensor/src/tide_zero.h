/* SPDX-License-Identifier: GPL-2.0-only */
struct device_node;
int tide_zero(const struct device_node *node, unsigned int *millimetres);
