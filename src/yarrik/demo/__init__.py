"""The example: a harbour authority's tide gauges, shipped as data and laid out into a folder."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
