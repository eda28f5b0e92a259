"""Sources: archives unpacked into the cache without ever using a path from them on this machine."""

from yarrik.sources.unpack import unpack_archive

__all__ = ["unpack_archive"]
