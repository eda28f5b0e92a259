"""Device trees: source to tree, tree to blob, blob to tree (Devicetree Specification v0.4)."""

from yarrik.devicetree.blob import BlobDamaged, blob_name, decode_blob, encode_blob
from yarrik.devicetree.preprocess import read_source
from yarrik.devicetree.printing import as_source
from yarrik.devicetree.source import SourceError, compile_source
from yarrik.devicetree.tree import DeviceTree, TreeNode, text_of

__all__ = [
    "BlobDamaged",
    "DeviceTree",
    "SourceError",
    "TreeNode",
    "as_source",
    "blob_name",
    "compile_source",
    "decode_blob",
    "encode_blob",
    "read_source",
    "text_of",
]
