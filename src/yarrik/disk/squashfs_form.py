"""squashfs 4.0 as it lies on a disk, described once for the writer and the reader: the kernel's
Documentation/filesystems/squashfs.rst and fs/squashfs/squashfs_fs.h are the specification."""

from __future__ import annotations

import lzma
import zlib
from collections.abc import Callable

from yarrik.binary import Record
from yarrik.disk.levels import check_level
from yarrik.errors import Damaged, Unfit

MAGIC = 0x73717368
BLOCK = 131072
METADATA = 8192
UNCOMPRESSED_BLOCK = 1 << 24
UNCOMPRESSED_METADATA = 0x8000
NOTHING = 0xFFFFFFFFFFFFFFFF
NO_FRAGMENT = 0xFFFFFFFF
NO_ATTRIBUTES = 0xFFFFFFFF
MOST_IN_RUN = 256
MOST_NAME = 256
COMPRESSORS = {"gzip": 1, "xz": 4, "lz4": 5, "zstd": 6}
#: Flags of the superblock.
DUPLICATES_STORED_ONCE, EXPORTABLE, NO_ATTRIBUTES_AT_ALL, HAS_OPTIONS = 0x0040, 0x0080, 0x0200, 0x0400

SUPER = Record(
    96,
    ("magic", 0, "I"),
    ("inodes", 4, "I"),
    ("made_at", 8, "I"),
    ("block_size", 12, "I"),
    ("fragments", 16, "I"),
    ("compressor", 20, "H"),
    ("block_log", 22, "H"),
    ("flags", 24, "H"),
    ("ids", 26, "H"),
    ("major", 28, "H"),
    ("minor", 30, "H"),
    ("root_inode", 32, "Q"),
    ("bytes_used", 40, "Q"),
    ("id_table", 48, "Q"),
    ("attribute_table", 56, "Q"),
    ("inode_table", 64, "Q"),
    ("folder_table", 72, "Q"),
    ("fragment_table", 80, "Q"),
    ("export_table", 88, "Q"),
)

#: An inode's type in its short form; LONG is added for the long one.
TYPES = {"folder": 1, "file": 2, "link": 3, "block": 4, "character": 5, "fifo": 6, "socket": 7}
LONG = 7
_INODE = (("type", 0, "H"), ("mode", 2, "H"), ("uid", 4, "H"), ("gid", 6, "H"), ("modified", 8, "I"), ("number", 12, "I"))
INODE = Record(16, *_INODE)
FOLDER = Record(16, ("start", 0, "I"), ("links", 4, "I"), ("size", 8, "H"), ("offset", 10, "H"), ("parent", 12, "I"))
LONG_FOLDER = Record(
    24,
    ("links", 0, "I"),
    ("size", 4, "I"),
    ("start", 8, "I"),
    ("parent", 12, "I"),
    ("index_count", 16, "H"),
    ("offset", 18, "H"),
    ("attributes", 20, "I"),
)
_FILE = (("start", 0, "I"), ("fragment", 4, "I"), ("offset", 8, "I"), ("size", 12, "I"))
FILE = Record(16, *_FILE)
#: Both together: the inode of most files.
PLAIN_FILE = Record(32, *_INODE, *((name, 16 + offset, form) for name, offset, form in _FILE))
LONG_FILE = Record(
    40,
    ("start", 0, "Q"),
    ("size", 8, "Q"),
    ("sparse", 16, "Q"),
    ("links", 24, "I"),
    ("fragment", 28, "I"),
    ("offset", 32, "I"),
    ("attributes", 36, "I"),
)
LINK = Record(8, ("links", 0, "I"), ("size", 4, "I"))
DEVICE = Record(8, ("links", 0, "I"), ("device", 4, "I"))
LONG_DEVICE = Record(12, ("links", 0, "I"), ("device", 4, "I"), ("attributes", 8, "I"))
PIPE = Record(4, ("links", 0, "I"))
LONG_PIPE = Record(8, ("links", 0, "I"), ("attributes", 4, "I"))

#: A folder's listing: runs of entries whose inodes lie in one metadata block.
RUN = Record(12, ("count", 0, "I"), ("start", 4, "I"), ("number", 8, "I"))
ENTRY = Record(8, ("offset", 0, "H"), ("number", 2, "h"), ("type", 4, "H"), ("size", 6, "H"))
#: Says where in a long listing a metadata block begins, and with which name.
INDEX = Record(12, ("position", 0, "I"), ("start", 4, "I"), ("size", 8, "I"))
FRAGMENT = Record(16, ("start", 0, "Q"), ("size", 8, "I"))
ATTRIBUTE_SET = Record(16, ("place", 0, "Q"), ("count", 8, "I"), ("size", 12, "I"))
ATTRIBUTE_TABLE = Record(16, ("start", 0, "Q"), ("count", 8, "I"))
ATTRIBUTE = Record(4, ("type", 0, "H"), ("size", 2, "H"))
ATTRIBUTE_PREFIXES = ("user.", "trusted.", "security.")
ATTRIBUTE_ELSEWHERE = 0x100
LZ4_OPTIONS = Record(8, ("version", 0, "I"), ("flags", 4, "I"))


#: Up to this level Zstandard sees soon itself that data cannot be compressed.
_QUICK_ZSTD = 12


def compressor(name: str, level: int | None = None) -> Callable[[bytes], bytes]:
    """The function that compresses one block. Raises ValueError for a name or level that is not known."""
    check_level(name, level)
    if name == "gzip":
        return lambda data: zlib.compress(data, 9 if level is None else level)
    if name == "xz":
        # The kernel's reader has a dictionary of a block's size and no more.
        filters = [{"id": lzma.FILTER_LZMA2, "preset": 6 if level is None else level, "dict_size": BLOCK}]
        return lambda data: lzma.compress(data, lzma.FORMAT_XZ, lzma.CHECK_CRC32, filters=filters)
    if name == "lz4":
        import lz4.block

        def compress_lz4(data: bytes) -> bytes:
            result: bytes = lz4.block.compress(data, mode="high_compression", compression=level or 12, store_size=False)
            return result

        return compress_lz4
    if name == "zstd":
        import threading

        import zstandard

        local, slow = threading.local(), 15 if level is None else level

        def compress_zstd(data: bytes) -> bytes:
            if not hasattr(local, "compressor"):
                local.compressor = zstandard.ZstdCompressor(level=slow)
                local.first = zstandard.ZstdCompressor(level=1) if slow > _QUICK_ZSTD else None
            # What does not get smaller at all at the quickest level is not worth the slow one, which takes 400 times as long.
            if local.first is not None and len(local.first.compress(data)) >= len(data):
                return data
            result: bytes = local.compressor.compress(data)
            return result

        return compress_zstd
    raise Unfit(f"`{name}` is not a compression that is known: {', '.join(COMPRESSORS)}")


def decompressor(number: int) -> Callable[[bytes, int], bytes]:
    """The function that undoes a block's compression, given the most bytes that may come out.

    Raises ValueError for a number that is not known; the function raises it for broken or overlong data."""
    name = next((name for name, known in COMPRESSORS.items() if known == number), "")
    if name == "gzip":
        return _bounded(zlib.error, lambda data, most: zlib.decompressobj().decompress(data, most + 1))
    if name == "xz":
        return _bounded(lzma.LZMAError, lambda data, most: lzma.LZMADecompressor(memlimit=1 << 28).decompress(data, most + 1))
    if name == "lz4":
        import lz4.block

        def decompress_lz4(data: bytes, most: int) -> bytes:
            result: bytes = lz4.block.decompress(data, uncompressed_size=most)
            return result

        return _bounded(lz4.block.LZ4BlockError, decompress_lz4)
    if name == "zstd":
        import zstandard

        def decompress_zstd(data: bytes, most: int) -> bytes:
            # As a stream, since a frame's header could ask for any room at once.
            stream = zstandard.ZstdDecompressor(max_window_size=1 << 23).stream_reader(data)
            result: bytes = stream.read(most + 1)
            return result

        return _bounded(zstandard.ZstdError, decompress_zstd)
    raise Damaged(f"it is compressed in a way that this reader does not know (number {number})")


def _bounded(broken: type[Exception], decompress: Callable[[bytes, int], bytes]) -> Callable[[bytes, int], bytes]:
    def checked(data: bytes, most: int) -> bytes:
        try:
            result = decompress(data, most)
        except (broken, EOFError, MemoryError) as error:
            raise Damaged("a compressed block is broken") from error
        if len(result) > most:
            raise Damaged("a compressed block is longer than it may be")
        return result

    return checked
