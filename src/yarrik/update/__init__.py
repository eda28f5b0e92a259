"""Updates of boards: bundles are made of two images, looked at, applied to a slot, and confirmed."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
