"""What people write: typed definitions, strictly read, stacked, each value with its origin."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
