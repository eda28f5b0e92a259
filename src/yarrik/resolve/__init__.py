"""What is needed, and in which order: recipes for building, packages at run time, and the lock."""

from yarrik.resolve.lock import LOCK_FILE, Lock, LockedSource, read_lock
from yarrik.resolve.order import Node, Order, build_order
from yarrik.resolve.runtime import BuiltPackage, Chosen, PackagedPath, choose_packages

__all__ = [
    "LOCK_FILE",
    "BuiltPackage",
    "Chosen",
    "Lock",
    "LockedSource",
    "Node",
    "Order",
    "PackagedPath",
    "build_order",
    "choose_packages",
    "read_lock",
]
