"""The way to begin: a shelf that ships with Yarrik, and new definitions that teach by their comments."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
