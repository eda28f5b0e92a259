"""Device trees: source to tree, tree to blob and back, checks, overlays, comparison (Devicetree Specification v0.4)."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
