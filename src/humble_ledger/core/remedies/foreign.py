"""Remedies of another ledger: which of them can be made without running a stranger's text."""

from __future__ import annotations

from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Remedy, RemedyType
from humble_ledger.core.schema.index_methods import IndexMethod

_METHODS = frozenset(str(each) for each in IndexMethod)


def is_plain(remedy: Remedy) -> bool:
    """Whether making it runs nothing but what is written here from its names.

    That holds for an index on columns, of which every name is quoted, and for another text of a
    statement, which is run as captured ones are: one statement that only reads. The index that such
    a text takes must be plain, too: it is built with it.
    """
    if remedy.type is RemedyType.REWRITE:
        return not remedy.values_from and (remedy.beside is None or _on_columns(remedy.beside))
    design = remedy.index
    return remedy.type is RemedyType.INDEX and design is not None and _on_columns(design)


def _on_columns(design: IndexDesign) -> bool:
    """Whether an index is on columns alone: no text of it stands in its statement as it is."""
    if design.predicate or str(design.method) not in _METHODS:
        return False
    return not any(key.expression or key.operator_class or key.collation for key in design.keys)
