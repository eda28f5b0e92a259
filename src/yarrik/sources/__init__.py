"""Sources: archives unpacked into the cache without ever using a path from them on this machine, and patches read."""

from yarrik.sources.patches import Misfit, misfits
from yarrik.sources.unpack import unpack_archive

__all__ = ["Misfit", "misfits", "unpack_archive"]
