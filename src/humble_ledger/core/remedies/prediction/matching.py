"""Which conditions of an access an index serves, and which orders it delivers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from humble_ledger.core.plans.model import Node
from humble_ledger.core.remedies.candidates.expressions import expression_of
from humble_ledger.core.remedies.candidates.model import Access
from humble_ledger.core.remedies.candidates.operator_classes import is_regular, prefix_of
from humble_ledger.core.remedies.candidates.partial import as_bound
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.beginnings import beginning_of
from humble_ledger.core.schema.collations import finds_beginnings
from humble_ledger.core.schema.facts import IndexKey
from humble_ledger.core.schema.operator_classes import sorts_by_bytes
from humble_ledger.core.statements.conditions import (
    Predicate,
    PredicateKind,
    Wrapping,
    predicates,
)
from humble_ledger.core.statements.parting import same_text


@dataclass(frozen=True, slots=True)
class Match:
    """The predicates an index serves, in the order of its keys.

    ``equal``, ``ranges`` and ``joined`` bound the part of the index that is walked; ``beyond``
    are tested on its entries only. ``skipped`` are leading columns without a condition, each
    value of which takes a search of its own where the server can do that. ``implied`` are
    those its own condition makes true, ``missing`` tells that a part of its condition is not
    asked for, so that the index cannot serve at all.
    """

    equal: tuple[Predicate, ...]
    ranges: tuple[Predicate, ...]
    joined: tuple[str, ...]
    implied: tuple[Predicate, ...] = ()
    missing: bool = False
    beyond: tuple[Predicate, ...] = ()
    skipped: tuple[str, ...] = ()

    @property
    def constants(self) -> tuple[Predicate, ...]:
        """All served conditions on constants, and those that are implied."""
        return (*self.equal, *self.ranges, *self.beyond, *self.implied)

    @property
    def unskipped(self) -> Match:
        """The same where the server does not skip: what lies behind a gap bounds nothing."""
        if not self.skipped:
            return self
        return replace(
            self, equal=(), ranges=(), joined=(), skipped=(),
            beyond=(*self.equal, *self.ranges, *self.beyond),
        )  # fmt: skip

    @property
    def bounded(self) -> bool:
        """Whether only a part of the index need be walked."""
        return bool(self.equal or self.ranges or self.joined)

    @property
    def fixed(self) -> set[str]:
        """The columns that have one value in all rows that match."""
        only = PredicateKind.EQUALITY
        return {
            p.column.column for p in (*self.equal, *self.implied) if p.column and p.kind is only
        }


def match(access: Access, design: IndexDesign, joins: Sequence[Predicate]) -> Match:
    """Equalities as far as they lead, then one key of ranges; what follows is tested only.

    Leading columns without any condition are skipped when a later key has one.
    """
    implied, missing = _implied(access, design)
    conditions = [p for p in access.conditions if p not in implied]
    equal: list[Predicate] = []
    ranges: tuple[Predicate, ...] = ()
    joined: list[str] = []
    beyond: list[Predicate] = []
    skipped: list[str] = []
    bounding = True
    for key in design.keys:
        here = [p for p in conditions if _serves(key, p, access)]
        found = next((p for p in here if p.equal), None)
        by_join = key.column and any(p.column and p.column.column == key.column for p in joins)
        if not bounding:
            beyond += here
        elif found is not None:
            equal.append(found)
        elif by_join:
            joined.append(key.column)
        elif here:
            ranges, bounding = tuple(here), False
        elif not equal and not joined:
            skipped.append(key.column)
        else:
            bounding = False
    if not (equal or ranges or joined):
        skipped = []
    return Match(
        tuple(equal), ranges, tuple(joined), tuple(implied), missing, tuple(beyond), tuple(skipped)
    )


def _implied(access: Access, design: IndexDesign) -> tuple[list[Predicate], bool]:
    found, missing = [], False
    for part in predicates(design.predicate) if design.predicate else ():
        asked = [p for p in access.conditions if same_text(as_bound(p, access), part.sql)]
        found += asked
        missing = missing or not asked
    return found, missing


def _serves(key: IndexKey, predicate: Predicate, access: Access) -> bool:
    """Whether a search by this key of a b-tree can use the predicate."""
    if predicate.partner is not None or predicate.negated:
        return False
    if predicate.kind is PredicateKind.PATTERN and predicate.wrapping is not Wrapping.NONE:
        return False  # the pattern is one of what is computed from the column
    first = beginning_of(key)
    if first is not None:
        of_it = predicate.column is not None and predicate.column.column == first.column
        if predicate.kind is PredicateKind.PATTERN:
            text = prefix_of(predicate, access.table.columns.get(first.column))
            return of_it and bool(text) and not is_regular(predicate)
        return of_it and predicate.equal and predicate.searchable
    if not key.column:
        text = expression_of(predicate, access.alias)
        return bool(text) and same_text(text, key.expression)
    if predicate.column is None or predicate.column.column != key.column:
        return False
    by_pattern = sorts_by_bytes(key)
    if predicate.kind is PredicateKind.PATTERN:
        column = access.table.columns.get(key.column)
        regular = is_regular(predicate)
        by_order = column is not None and finds_beginnings(key, column, regular=regular)
        return bool(prefix_of(predicate, column)) and (by_pattern or by_order)
    if by_pattern and predicate.kind is PredicateKind.RANGE:
        return False
    return predicate.searchable


def gives_order(keys: Sequence[IndexKey], fixed: set[str], sort: Node, access: Access) -> bool:
    """Whether an index delivers a sort's order, forwards or backwards.

    Columns fixed to one value may stand anywhere.
    """
    if not access.order or len(access.order) != len(sort.sort_keys):
        return False
    wanted = [key for key in access.order if key.column not in fixed]
    offered = [key for key in keys if key.column not in fixed or not key.column][: len(wanted)]
    if [k.column for k in wanted] != [k.column for k in offered]:
        return False
    if any(key.operator_class for key in offered):
        return False
    turned = {
        (w.descending != o.descending, w.nulls_first != o.nulls_first)
        for w, o in zip(wanted, offered, strict=True)
    }
    return turned in ({(False, False)}, {(True, True)}, set())
