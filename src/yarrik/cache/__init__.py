"""The cache: content-addressed files and trees, results of steps, and what a workspace remembers of its last builds."""

from yarrik.cache.claims import Claims, Holder
from yarrik.cache.memory import Cost, LastRun, Memory
from yarrik.cache.store import MissingObject, Result, Store, default_root
from yarrik.cache.tree import Entry, Tree, TreeDamaged, changed_paths, file_digest, read_tree, safe_relative
from yarrik.cache.upkeep import in_use

__all__ = [
    "Claims",
    "Cost",
    "Entry",
    "Holder",
    "LastRun",
    "Memory",
    "MissingObject",
    "Result",
    "Store",
    "Tree",
    "TreeDamaged",
    "changed_paths",
    "default_root",
    "file_digest",
    "in_use",
    "read_tree",
    "safe_relative",
]
