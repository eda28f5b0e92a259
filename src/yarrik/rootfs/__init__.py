"""The root filesystem as a tree of nodes with owners, modes, links and device nodes; nobody needs to be root for it.

`assemble` puts one together from packages; it stands apart, since it knows definitions and the rest is for any folder."""

from yarrik.rootfs.folder import OwnerRow, read_folder, read_owners
from yarrik.rootfs.tree import Node, RootTree, quoted, unquoted

__all__ = [
    "Node",
    "OwnerRow",
    "RootTree",
    "quoted",
    "read_folder",
    "read_owners",
    "unquoted",
]
