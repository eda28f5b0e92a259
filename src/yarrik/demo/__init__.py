"""The example: a harbour authority's tide gauges, shipped as data and laid out into a folder."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
