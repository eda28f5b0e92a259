"""Images onto storage: which devices there are, what forbids writing to one, writing, and reading back."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
