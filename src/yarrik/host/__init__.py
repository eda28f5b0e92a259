"""What of the build host a step sees: programs by name, what they load, and the toolchain's own files. Nothing else."""

from yarrik.host.closure import Sight, sight_of
from yarrik.host.headers import is_toolchain_file
from yarrik.host.programs import debian_package, family, find_program

__all__ = ["Sight", "debian_package", "family", "find_program", "is_toolchain_file", "sight_of"]
