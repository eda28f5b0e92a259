"""Manifests: what is in an image, where it came from, and whether a finished folder is still what it was."""

from yarrik.manifest.lists import checksum_list, describe_files, describe_packages
from yarrik.manifest.verify import verify_out

__all__ = ["checksum_list", "describe_files", "describe_packages", "verify_out"]
