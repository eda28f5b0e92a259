"""Disks as bytes: where partitions lie, partition tables and filesystems, written without root, mounts or loop devices."""

from yarrik.disk.ext4 import Ext4Plan, plan_ext4, write_ext4
from yarrik.disk.fat import FatReader, FatUnfit, plan_fat, write_fat
from yarrik.disk.gpt import PartitionTable, TableDamaged, TableEntry, encode_table, read_table
from yarrik.disk.layout import (
    DiskLayout,
    LayoutUnfit,
    PlacedPartition,
    derived_guid,
    drawn_map,
    has_boot_partition,
    lay_out_disk,
    root_partition,
)
from yarrik.disk.mbr import MbrDamaged, MbrEntry, encode_mbr, read_mbr
from yarrik.disk.writing import write_disk

__all__ = [
    "DiskLayout",
    "Ext4Plan",
    "FatReader",
    "FatUnfit",
    "LayoutUnfit",
    "MbrDamaged",
    "MbrEntry",
    "PartitionTable",
    "PlacedPartition",
    "TableDamaged",
    "TableEntry",
    "derived_guid",
    "drawn_map",
    "encode_mbr",
    "encode_table",
    "has_boot_partition",
    "lay_out_disk",
    "plan_ext4",
    "plan_fat",
    "read_mbr",
    "read_table",
    "root_partition",
    "write_disk",
    "write_ext4",
    "write_fat",
]
