"""What is needed, and in which order: recipes for building, packages at run time, and the lock."""

from yarrik.resolve.answer import Answer, resolve
from yarrik.resolve.facts import Link, Node, Relation, Side, Thing
from yarrik.resolve.lock import LOCK_FILE, Lock, LockedProduct, Moved, moved, read_lock
from yarrik.resolve.order import Order, build_order
from yarrik.resolve.runtime import BuiltPackage, Chosen, PackagedPath, choose_packages
from yarrik.resolve.sentences import link_words

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
    "Relation",
    "Side",
    "Thing",
    "build_order",
    "choose_packages",
    "link_words",
    "moved",
    "read_lock",
    "resolve",
]
