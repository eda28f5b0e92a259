"""The way to begin: a shelf that ships with Yarrik, and new definitions that teach by their comments."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
