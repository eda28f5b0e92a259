"""The cache: content-addressed files and trees, results of steps, and what a workspace remembers of its last builds."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
