"""Updates of boards: bundles are made of two images, looked at, applied to a slot, and confirmed."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
