"""The step graph of a product, the fingerprint of each step, and the reason why one has to run."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
