"""Disks as bytes: where partitions lie, partition tables and filesystems, written without root, mounts or loop devices."""

from yarrik.disk.ext4 import Ext4Plan, plan_ext4, write_ext4
from yarrik.disk.gpt import PartitionTable, TableDamaged, TableEntry, encode_table, read_table
from yarrik.disk.layout import DiskLayout, PlacedPartition, derived_guid, lay_out_disk, root_partition
from yarrik.disk.writing import write_disk

__all__ = [
    "DiskLayout",
    "Ext4Plan",
    "PartitionTable",
    "PlacedPartition",
    "TableDamaged",
    "TableEntry",
    "derived_guid",
    "encode_table",
    "lay_out_disk",
    "plan_ext4",
    "read_table",
    "root_partition",
    "write_disk",
    "write_ext4",
]
