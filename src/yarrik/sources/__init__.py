"""Sources: archives unpacked into the cache without ever using a path from them on this machine, and patches read."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
