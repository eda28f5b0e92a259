"""What is needed, and in which order: recipes for building, packages at run time, and the lock."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
