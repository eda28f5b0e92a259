"""The step graph of a product, the fingerprint of each step, and the reason why one has to run."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
