"""Frames of Zstandard (RFC 8878) as updates have them."""

from __future__ import annotations

import zstandard

from yarrik.errors import Damaged


def decompressed(frame: bytes, near: bytes, length: int) -> bytes:
    """The content of a frame, which has `length` bytes; `near` is its dictionary, of content alone. Raises Damaged."""
    try:
        if zstandard.frame_content_size(frame) != length:
            raise Damaged("a frame says that it has another length")
        words = zstandard.ZstdCompressionDict(near, zstandard.DICT_TYPE_RAWCONTENT) if near else None
        reader = zstandard.ZstdDecompressor(dict_data=words) if words is not None else zstandard.ZstdDecompressor()
        data = reader.decompress(frame, max_output_size=length)
    except zstandard.ZstdError as error:
        raise Damaged("a frame cannot be decompressed") from error
    if len(data) != length:
        raise Damaged("a frame has another length than it says")
    return data
