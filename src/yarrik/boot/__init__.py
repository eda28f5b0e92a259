"""What makes a board boot: command line, boot files of each method, memory map, the bench board, and the emulator."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
