"""Files of a size of their own: what is left behind their last element is zeros, as many as there is room for."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from faithful_ledger.core.binding import BoundFile
from faithful_ledger.core.describe.draft import Draft
from faithful_ledger.core.describe.flow import varies

__all__ = ["let_keep_size"]

LEAST_SAVES, LEAST_OF_OTHER_ENDS = 3, 2  # where what is in them ends at one offset, and at several
LEAST_ZEROS, MANY_ZEROS = 8, 64  # where there are more in one save than in another, and where as many are in all


def let_keep_size(draft: Draft, others: Iterable[Mapping[str, BoundFile]]) -> None:
    """Let the files of a template keep their size in which something may take another one, where other saves show that
    they have a size of their own: all have the same, and as many zeros at the end as what is in them leaves.
    """
    binary = {name: file.bound for name, file in draft.save.files.items() if file.bound is not None}
    growing = {
        name: bound
        for name, bound in binary.items()
        if bound.spec.format == "binary" and not bound.spec.keeps_size and any(map(varies, bound.root.children))
    }
    saves = list(others) if growing else []  # which are only bound then
    for name, bound in growing.items():
        if _is_filled([bound, *(save[name] for save in saves if name in save)]):
            draft.keep_size(name)


def _is_filled(files: Sequence[BoundFile]) -> bool:
    sizes = {bound.source.size for bound in files}
    ends = {max((child.end for child in bound.root.children), default=0) for bound in files}
    if len(files) < (LEAST_SAVES if len(ends) == 1 else LEAST_OF_OTHER_ENDS) or len(sizes) > 1:
        return False
    contents = [bytes(bound.source.read(0, bound.source.size)) for bound in files]
    zeros = {len(content) - len(content.rstrip(b"\0")) for content in contents}
    return min(zeros) >= (LEAST_ZEROS if len(zeros) > 1 else MANY_ZEROS)
