"""Images onto storage: which devices there are, what forbids writing to one, writing, and reading back."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
