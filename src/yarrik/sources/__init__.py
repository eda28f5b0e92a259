"""Sources: archives unpacked into the cache without ever using a path from them on this machine, and patches read."""

from yarrik.sources.download import digest_of_url, download
from yarrik.sources.patches import Misfit, misfits
from yarrik.sources.repository import check_out
from yarrik.sources.unpack import Limits, is_archive, unpack_archive

__all__ = ["Limits", "Misfit", "check_out", "digest_of_url", "download", "is_archive", "misfits", "unpack_archive"]
