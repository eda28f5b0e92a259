"""What is needed, and in which order: recipes for building, packages at run time, and the lock."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
