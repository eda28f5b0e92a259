"""Manifests: what is in an image, where it came from, and whether a finished folder is still what it was."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
