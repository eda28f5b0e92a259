"""A board's console: serial ports, what is shown and kept of them, files sent over them, and scripts that follow a start."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
