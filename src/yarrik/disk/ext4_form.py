"""ext4 and ext2 as they lie on a disk, described once for the writer and the reader: the kernel's documentation under
Documentation/filesystems/ext4 is the specification, and its chapters are named where they rule."""

from __future__ import annotations

from enum import IntFlag

import google_crc32c
import msgspec

from yarrik.binary import Record

BLOCK = 4096
INODE = 256
GROUP_BLOCKS = 8 * BLOCK
INODES_PER_BLOCK = BLOCK // INODE
ROOT_INODE = 2
RESIZE_INODE = 7
JOURNAL_INODE = 8
FIRST_INODE = 11
FAST_LINK = 60
MOST_NAME = 255
INODE_ZEROED = 0x4  # EXT4_BG_INODE_ZEROED
#: Length of an extent from which on it is not initialised: EXT_INIT_MAX_LEN.
INITIALISED_MOST = 1 << 15
#: What follows the first 128 bytes of an inode and is described below.
EXTRA_SIZE = 32

MODES = {
    "folder": 0x4000,
    "file": 0x8000,
    "link": 0xA000,
    "character": 0x2000,
    "block": 0x6000,
    "fifo": 0x1000,
    "socket": 0xC000,
}


class InodeFlag(IntFlag):
    """`i_flags` (chapter "Inode Table"); the standard's names are `EXT4_…_FL`."""

    ENCRYPT = 0x800
    INDEX = 0x1000
    EXTENTS = 0x80000
    INLINE_DATA = 0x10000000


class Compatible(IntFlag):
    """`s_feature_compat` (chapter "Super Block"): `COMPAT_…`."""

    HAS_JOURNAL = 0x4
    EXT_ATTR = 0x8
    RESIZE_INODE = 0x10
    DIR_INDEX = 0x20


class Incompatible(IntFlag):
    """`s_feature_incompat`: `INCOMPAT_…`. Who does not know one of those that are set must not read the filesystem."""

    FILETYPE = 0x2
    RECOVER = 0x4
    META_BG = 0x10
    EXTENTS = 0x40
    WIDE = 0x80  # INCOMPAT_64BIT
    MMP = 0x100
    FLEX_BG = 0x200
    EA_INODE = 0x400
    CSUM_SEED = 0x2000
    LARGEDIR = 0x4000
    INLINE_DATA = 0x8000
    CASEFOLD = 0x20000


class ReadOnlyCompatible(IntFlag):
    """`s_feature_ro_compat`: `RO_COMPAT_…`."""

    SPARSE_SUPER = 0x1
    LARGE_FILE = 0x2
    HUGE_FILE = 0x8
    DIR_NLINK = 0x20
    EXTRA_ISIZE = 0x40
    METADATA_CSUM = 0x400


ENTRY_TYPES = {"file": 1, "folder": 2, "character": 3, "block": 4, "fifo": 5, "socket": 6, "link": 7}


class Form(msgspec.Struct, frozen=True):
    """One of the forms that are written: its features (chapter "Super Block"), and what follows from them."""

    name: str
    compatible: int
    incompatible: int
    read_only_compatible: int
    descriptor: int
    extents: bool
    checksums: bool
    journal: bool
    hashed: bool


EXT4 = Form(
    "ext4",
    compatible=Compatible.HAS_JOURNAL | Compatible.EXT_ATTR | Compatible.RESIZE_INODE | Compatible.DIR_INDEX,
    incompatible=Incompatible.FILETYPE | Incompatible.EXTENTS | Incompatible.WIDE | Incompatible.FLEX_BG,
    read_only_compatible=ReadOnlyCompatible.SPARSE_SUPER
    | ReadOnlyCompatible.LARGE_FILE
    | ReadOnlyCompatible.HUGE_FILE
    | ReadOnlyCompatible.DIR_NLINK
    | ReadOnlyCompatible.EXTRA_ISIZE
    | ReadOnlyCompatible.METADATA_CSUM,
    descriptor=64,
    extents=True,
    checksums=True,
    journal=True,
    hashed=True,
)
EXT2 = Form(
    "ext2",
    compatible=Compatible.EXT_ATTR | Compatible.RESIZE_INODE,
    incompatible=Incompatible.FILETYPE,
    read_only_compatible=ReadOnlyCompatible.SPARSE_SUPER | ReadOnlyCompatible.LARGE_FILE,
    descriptor=32,
    extents=False,
    checksums=False,
    journal=False,
    hashed=False,
)
FORMS = {form.name: form for form in (EXT4, EXT2)}

# Chapter "Super Block".
SUPER = Record(
    1024,
    ("inodes", 0x0, "I"),
    ("blocks_lo", 0x4, "I"),
    ("reserved_lo", 0x8, "I"),
    ("free_blocks_lo", 0xC, "I"),
    ("free_inodes", 0x10, "I"),
    ("first_data_block", 0x14, "I"),
    ("log_block_size", 0x18, "I"),
    ("log_cluster_size", 0x1C, "I"),
    ("blocks_per_group", 0x20, "I"),
    ("clusters_per_group", 0x24, "I"),
    ("inodes_per_group", 0x28, "I"),
    ("mount_time", 0x2C, "I"),
    ("write_time", 0x30, "I"),
    ("mount_count", 0x34, "H"),
    ("max_mount_count", 0x36, "H"),
    ("magic", 0x38, "H"),
    ("state", 0x3A, "H"),
    ("errors", 0x3C, "H"),
    ("last_check", 0x40, "I"),
    ("creator_os", 0x48, "I"),
    ("revision", 0x4C, "I"),
    ("first_inode", 0x54, "I"),
    ("inode_size", 0x58, "H"),
    ("block_group", 0x5A, "H"),
    ("compatible", 0x5C, "I"),
    ("incompatible", 0x60, "I"),
    ("read_only_compatible", 0x64, "I"),
    ("uuid", 0x68, "16s"),
    ("label", 0x78, "16s"),
    ("reserved_descriptors", 0xCE, "H"),
    ("journal_inode", 0xE0, "I"),
    ("hash_seed", 0xEC, "16s"),
    ("default_hash", 0xFC, "B"),
    ("journal_backup_type", 0xFD, "B"),
    ("descriptor_size", 0xFE, "H"),
    ("default_mount_options", 0x100, "I"),
    ("first_meta_group", 0x104, "I"),
    ("made_at", 0x108, "I"),
    ("journal_backup", 0x10C, "17I"),
    ("blocks_hi", 0x150, "I"),
    ("reserved_hi", 0x154, "I"),
    ("free_blocks_hi", 0x158, "I"),
    ("min_extra", 0x15C, "H"),
    ("want_extra", 0x15E, "H"),
    ("flags", 0x160, "I"),
    ("log_groups_per_flex", 0x174, "B"),
    ("checksum_type", 0x175, "B"),
    ("checksum", 0x3FC, "I"),
)

# Chapter "Block Group Descriptors".
GROUP = Record(
    64,
    ("block_bitmap_lo", 0x0, "I"),
    ("inode_bitmap_lo", 0x4, "I"),
    ("inode_table_lo", 0x8, "I"),
    ("free_blocks_lo", 0xC, "H"),
    ("free_inodes_lo", 0xE, "H"),
    ("folders_lo", 0x10, "H"),
    ("flags", 0x12, "H"),
    ("block_bitmap_checksum_lo", 0x18, "H"),
    ("inode_bitmap_checksum_lo", 0x1A, "H"),
    ("unused_inodes_lo", 0x1C, "H"),
    ("checksum", 0x1E, "H"),
    ("block_bitmap_hi", 0x20, "I"),
    ("inode_bitmap_hi", 0x24, "I"),
    ("inode_table_hi", 0x28, "I"),
    ("block_bitmap_checksum_hi", 0x38, "H"),
    ("inode_bitmap_checksum_hi", 0x3A, "H"),
)

# Chapter "Index Nodes".
INODE_RECORD = Record(
    INODE,
    ("mode", 0x0, "H"),
    ("uid_lo", 0x2, "H"),
    ("size_lo", 0x4, "I"),
    ("access_time", 0x8, "I"),
    ("change_time", 0xC, "I"),
    ("content_time", 0x10, "I"),
    ("gid_lo", 0x18, "H"),
    ("links", 0x1A, "H"),
    ("sectors_lo", 0x1C, "I"),
    ("flags", 0x20, "I"),
    ("block", 0x28, "60s"),
    ("generation", 0x64, "I"),
    ("attribute_block_lo", 0x68, "I"),
    ("size_hi", 0x6C, "I"),
    ("sectors_hi", 0x74, "H"),
    ("attribute_block_hi", 0x76, "H"),
    ("uid_hi", 0x78, "H"),
    ("gid_hi", 0x7A, "H"),
    ("checksum_lo", 0x7C, "H"),
    ("extra_size", 0x80, "H"),
    ("checksum_hi", 0x82, "H"),
    ("change_time_more", 0x84, "I"),
    ("content_time_more", 0x88, "I"),
    ("access_time_more", 0x8C, "I"),
    ("made_at", 0x90, "I"),
    ("made_at_more", 0x94, "I"),
)

# Chapter "Journal (jbd2)": all numbers are big-endian.
JOURNAL_SUPER = Record(
    1024,
    ("magic", 0x0, "I"),
    ("block_type", 0x4, "I"),
    ("header_sequence", 0x8, "I"),
    ("block_size", 0xC, "I"),
    ("length", 0x10, "I"),
    ("first", 0x14, "I"),
    ("sequence", 0x18, "I"),
    ("start", 0x1C, "I"),
    ("uuid", 0x30, "16s"),
    ("users", 0x40, "I"),
    order=">",
)

# Chapter "Extent Tree": a header, then extents in a leaf or references to further blocks in what is above it.
EXTENT_HEADER = Record(12, ("magic", 0, "H"), ("count", 2, "H"), ("room", 4, "H"), ("depth", 6, "H"))
EXTENT = Record(12, ("at", 0, "I"), ("length", 4, "H"), ("start_hi", 6, "H"), ("start_lo", 8, "I"))
EXTENT_INDEX = Record(12, ("at", 0, "I"), ("block_lo", 4, "I"), ("block_hi", 8, "H"))
EXTENT_MAGIC = 0xF30A
#: Header and extent of a file that lies in one piece, as its inode has them.
ONE_EXTENT = Record(
    60,
    ("magic", 0, "H"),
    ("count", 2, "H"),
    ("room", 4, "H"),
    ("length", 16, "H"),
    ("start_hi", 18, "H"),
    ("start_lo", 20, "I"),
)

# Chapter "Directory Entries", "Hash Tree Directories".
HASH_ROOT = Record(8, ("reserved", 0, "I"), ("version", 4, "B"), ("length", 5, "B"), ("levels", 6, "B"), ("flags", 7, "B"))
HASH_LIMITS = Record(8, ("room", 0, "H"), ("count", 2, "H"), ("block", 4, "I"))
HASH_ENTRY = Record(8, ("hash", 0, "I"), ("block", 4, "I"))
HALF_MD4 = 1


def checksum(seed: int, data: bytes | bytearray) -> int:
    """CRC-32C as the kernel runs it on: no inversion at either end."""
    value: int = google_crc32c.extend(seed ^ 0xFFFFFFFF, bytes(data))
    return value ^ 0xFFFFFFFF


def has_backup(group: int) -> bool:
    """Whether a group holds copies of superblock and descriptors (sparse_super: 0, 1, powers of 3, 5 and 7)."""
    if group < 2:
        return True
    for base in (3, 5, 7):
        power = base
        while power < group:
            power *= base
        if power == group:
            return True
    return False
