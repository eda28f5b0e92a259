"""The root filesystem as a tree of nodes with owners, modes, links and device nodes; nobody needs to be root for it."""

from yarrik.rootfs.assemble import assemble_root
from yarrik.rootfs.folder import OwnerRow, read_folder, read_owners
from yarrik.rootfs.tree import Node, RootTree, quoted, unquoted

__all__ = [
    "Node",
    "OwnerRow",
    "RootTree",
    "assemble_root",
    "quoted",
    "read_folder",
    "read_owners",
    "unquoted",
]
