"""What went to and fro between the cache here and those that are shared."""

from __future__ import annotations

import msgspec


class Traffic(msgspec.Struct):
    """Results and bytes, brought and sent."""

    brought: int = 0
    brought_bytes: int = 0
    sent: int = 0
    sent_bytes: int = 0
