"""What of the build host a step sees: programs by name, what they load, and the toolchain's own files. Nothing else."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
