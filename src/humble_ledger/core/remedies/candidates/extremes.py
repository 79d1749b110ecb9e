"""Indexes at whose end the smallest or the greatest value stands."""

from __future__ import annotations

from collections.abc import Iterator

from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import Node, Operation, Plan
from humble_ledger.core.plans.paths import path_to
from humble_ledger.core.remedies.candidates.keys import as_keys, by_telling, served
from humble_ledger.core.remedies.candidates.model import Access, Candidate
from humble_ledger.core.remedies.candidates.uses import serves
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.statements.tokens import TokenKind, meaningful, unquoted

_BETWEEN = (Operation.GATHER,)


def extremes(plan: Plan, access: Access) -> Iterator[Candidate]:
    """For a plan that asks for min or max of columns and nothing else."""
    found = extreme_of(plan, access)
    if found is None:
        return
    if access.ranges or access.others or access.joins:
        return  # other conditions would have to be tested row by row from the end
    equal = by_telling(access)
    for column in found[1]:
        if column not in equal:
            keys = tuple(as_keys([*equal, column]))
            if not served(keys, access.table):
                end = message("index-for-end", column=column)
                reason = serves(end, equal=equal)
                yield Candidate(IndexDesign(access.table.name, keys), access, reason)


def extreme_of(plan: Plan, access: Access) -> tuple[Node, tuple[str, ...]] | None:
    """The step that asks for min or max of columns of this table alone, and these columns."""
    path = path_to(plan.root, access.node)
    top = None
    for step in reversed(path[:-1]):
        if step.operation is Operation.AGGREGATE and not step.group_keys:
            top = step
        elif step.operation not in _BETWEEN:
            break
    if top is None:
        return None
    columns = [_extreme(text, access) for text in top.output]
    named = tuple(dict.fromkeys(name for name in columns if name is not None))
    return (top, named) if named and len(columns) == len([c for c in columns if c]) else None


def _extreme(text: str, access: Access) -> str | None:
    """The column of "max(r.taken_at)", also of the parts that workers made of it."""
    words = [t for t in meaningful(text) if t.text not in ("(", ")", ".")]
    names = [t for t in words if t.kind in (TokenKind.WORD, TokenKind.QUOTED)]
    kept = [unquoted(t.text) for t in names if not t.is_word("partial", "public")]
    extremes_named = [name for name in kept if name.lower() in ("min", "max")]
    others = [name for name in kept if name.lower() not in ("min", "max")]
    if not extremes_named or not others or others[-1] not in access.table.columns:
        return None
    return others[-1] if set(others[:-1]) <= {access.alias} else None
