"""What is needed, and in which order: recipes for building, packages at run time, and the lock."""

from yarrik.resolve.answer import Answer, Link, resolve
from yarrik.resolve.lock import LOCK_FILE, Lock, LockedProduct, Moved, moved, read_lock
from yarrik.resolve.order import Node, Order, build_order
from yarrik.resolve.runtime import BuiltPackage, Chosen, PackagedPath, choose_packages
from yarrik.resolve.universe import Side, Thing

__all__ = [
    "LOCK_FILE",
    "Answer",
    "BuiltPackage",
    "Chosen",
    "Link",
    "Lock",
    "LockedProduct",
    "Moved",
    "Node",
    "Order",
    "PackagedPath",
    "Side",
    "Thing",
    "build_order",
    "choose_packages",
    "moved",
    "read_lock",
    "resolve",
]
