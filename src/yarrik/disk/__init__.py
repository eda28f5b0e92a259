"""Disks as bytes: where partitions lie, partition tables and filesystems, written without root, mounts or loop devices.

Each form is a module of its own, imported where it is needed: nobody who looks at a FAT waits for what ext4 needs."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
