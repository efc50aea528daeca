"""A template laid over a file: spans, values, and what depends on them."""

from faithful_ledger.core.binding.binder import BoundFile, bind
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
    "bind",
    "bind_files",
    "find",
    "settle",
]
