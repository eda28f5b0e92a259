"""What of the build host a step sees: programs by name, what they load, and the toolchain's own files. Nothing else."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
