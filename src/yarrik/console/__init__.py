"""A board's console: serial ports, what is shown and kept of them, files sent over them, and scripts that follow a start."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
