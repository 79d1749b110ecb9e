"""Remedies of another ledger: which of them can be made without running a stranger's text."""

from __future__ import annotations

from dataclasses import replace

from humble_ledger.core.dialect import STANDARD
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Remedy
from humble_ledger.core.remedies.operations import CreateIndex, RewriteStatement
from humble_ledger.core.remedies.rendering import rendered
from humble_ledger.core.schema.index_methods import IndexMethod

_METHODS = frozenset(str(each) for each in IndexMethod)


def is_plain(remedy: Remedy) -> bool:
    """Whether making it runs nothing but what is written here from its names.

    That holds for an index on columns, of which every name is quoted, and for another text of a
    statement, which is run as captured ones are: one statement that only reads. The index that such
    a text takes must be plain, too: it is built with it.
    """
    match remedy.operation:
        case RewriteStatement(values_from="", beside=beside):
            return beside is None or _on_columns(beside)
        case CreateIndex(design):
            return _on_columns(design)
    return False


def shown_as_done(remedy: Remedy) -> Remedy:
    """The remedy, a text of which shows what is sent: a stranger could have written another."""
    if remedy.rewrite is None:
        return remedy
    words = rendered(remedy.rewrite, STANDARD)
    return replace(remedy, apply=words.forward, revert=words.backward)


def _on_columns(design: IndexDesign) -> bool:
    """Whether an index is on columns alone: no text of it stands in its statement as it is."""
    if design.predicate or str(design.method) not in _METHODS:
        return False
    return not any(key.expression or key.operator_class or key.collation for key in design.keys)
