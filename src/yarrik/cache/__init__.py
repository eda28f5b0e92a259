"""The cache: content-addressed files and trees, results of steps, and what a workspace remembers of its last builds."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
