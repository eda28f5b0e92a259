"""The example: a harbour authority's tide gauges, shipped as data and laid out into a folder."""

from yarrik.demo.layout import DEMO_PRODUCTS, DemoProduct, lay_out_demo

__all__ = ["DEMO_PRODUCTS", "DemoProduct", "lay_out_demo"]
