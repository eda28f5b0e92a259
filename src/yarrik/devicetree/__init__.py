"""Device trees: source to tree, tree to blob and back, checks, overlays, comparison (Devicetree Specification v0.4)."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
