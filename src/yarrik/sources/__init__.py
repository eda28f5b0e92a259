"""Sources: archives unpacked into the cache without ever using a path from them on this machine, and patches read."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
