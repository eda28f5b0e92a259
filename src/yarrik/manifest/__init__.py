"""Manifests: what is in an image, where it came from, and whether a finished folder is still what it was."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
