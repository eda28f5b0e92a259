"""Device trees: source to tree, tree to blob and back, checks, overlays, comparison (Devicetree Specification v0.4)."""

from yarrik.devicetree.blob import BlobDamaged, blob_name, decode_blob, encode_blob
from yarrik.devicetree.checks import CHECKS, stdout_node
from yarrik.devicetree.compare import Difference, compare_trees
from yarrik.devicetree.lexer import SourceError
from yarrik.devicetree.overlay import apply_overlay
from yarrik.devicetree.preprocess import read_source
from yarrik.devicetree.printing import as_source
from yarrik.devicetree.source import compile_and_check, compile_source
from yarrik.devicetree.tree import DeviceTree, TreeNode, text_of

__all__ = [
    "CHECKS",
    "BlobDamaged",
    "DeviceTree",
    "Difference",
    "SourceError",
    "TreeNode",
    "apply_overlay",
    "as_source",
    "blob_name",
    "compare_trees",
    "compile_and_check",
    "compile_source",
    "decode_blob",
    "encode_blob",
    "read_source",
    "stdout_node",
    "text_of",
]
