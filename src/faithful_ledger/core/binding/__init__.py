"""A template laid over a file: spans, values, and what depends on them."""

from faithful_ledger.core.binding.binary import BoundFile, bind_binary
from faithful_ledger.core.binding.document import bind_json
from faithful_ledger.core.binding.files import bind_files
from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode, find
from faithful_ledger.core.binding.settle import Renewal, Settled, settle

__all__ = [
    "BoundFile",
    "FieldNode",
    "GroupNode",
    "Node",
    "Renewal",
    "RowsNode",
    "Settled",
    "bind_binary",
    "bind_files",
    "bind_json",
    "find",
    "settle",
]
