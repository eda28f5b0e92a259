"""What an image itself brings, beside packages and accounts: files, folders, links and nodes, each with where it is said."""

from __future__ import annotations

import msgspec

from yarrik.rootfs.tree import Kind

#: How the label of a time zone's file begins; the zone's name follows.
ZONE_LABEL = "time zone "


class OwnPath(msgspec.Struct, frozen=True, kw_only=True, rename="kebab", omit_defaults=True):
    """One path. A file has either `content` or `source`, the label of a file that the step is given; a link's destination is
    its `content`. `origin` is the definition that says so, from the workspace's folder, or empty for what follows from others.

    It takes the place of a package's file only if `replaces` names that package, and has to, if it does so `surely`; what
    is `usual` gives way to a package's file without a word, what `gives_way_to` packages to theirs. `instead` is what to
    do where a package's file must not be replaced."""

    path: str
    kind: Kind
    mode: int
    origin: str = ""
    content: str = ""
    source: str = ""
    owner: str = "root"
    group: str = ""
    device: tuple[int, int] = (0, 0)
    replaces: tuple[str, ...] = ()
    surely: bool = False
    usual: bool = False
    gives_way_to: tuple[str, ...] = ()
    instead: str = ""
