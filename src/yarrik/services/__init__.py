"""Services of an image: what they are, their order, and the files that an init reads them from, in several forms."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
