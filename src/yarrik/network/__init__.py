"""Network interfaces of an image, and the files that set them up, in several forms."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
