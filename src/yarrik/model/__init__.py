"""What people write: typed definitions, strictly read, stacked, each value with its origin."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
