"""What makes a board boot: command line, boot files of each method, memory map, the bench board, and the emulator."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
