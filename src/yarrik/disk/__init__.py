"""Disks as bytes: where partitions lie, partition tables and filesystems, written without root, mounts or loop devices.

Each form is a module of its own, imported where it is needed: nobody who looks at a FAT waits for what ext4 needs."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
