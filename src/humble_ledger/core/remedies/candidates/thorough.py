"""Candidates that only a planner can judge: every column that a query touches, in pairs, covering.

They are many, so that they are worth pricing only where asking about all of them at once costs a
single plan: whatever the planner then takes is a candidate like the others.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from itertools import permutations

from humble_ledger.core.messages import Message, message
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.accesses import accesses, needed_columns
from humble_ledger.core.remedies.candidates.covering import MOST_ADDED, MOST_ADDED_BYTES, width_of
from humble_ledger.core.remedies.candidates.keys import as_keys, columns_in, served
from humble_ledger.core.remedies.candidates.model import Access, Candidate, IndexAbilities
from humble_ledger.core.remedies.candidates.uses import serves
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.enclosing import is_by_shape
from humble_ledger.core.schema.facts import IndexKey, TableFacts, TableName

FEWEST_PAGES = 8  # smaller tables are read whole faster than any index helps
MOST_COLUMNS = 6
_NOTHING_KNOWN = IndexAbilities()


def thorough(
    plan: Plan, tables: Mapping[TableName, TableFacts], means: IndexAbilities = _NOTHING_KNOWN
) -> list[Candidate]:
    """Indexes of one or two columns that a plan tests, joins, sorts or groups by."""
    found: dict[IndexDesign, Candidate] = {}
    for access in accesses(plan, tables):
        if access.table.pages >= FEWEST_PAGES:
            for each in _of(plan, access):
                design = means.possible(each.design, each.access.table)
                if design is not None:
                    found.setdefault(design, replace(each, design=design))
    return list(found.values())


def _of(plan: Plan, access: Access) -> Iterator[Candidate]:
    table = access.table
    touched = _touched(access)
    needed = needed_columns(plan, access)
    for columns in [*((name,) for name in touched), *permutations(touched, 2)]:
        keys = tuple(as_keys(columns))
        if not served(keys, table):
            yield Candidate(IndexDesign(table.name, keys), access, _reason(columns))
        added = tuple(name for name in table.columns if name in needed - set(columns))
        wide = sum(width_of(table, name) for name in added) > MOST_ADDED_BYTES
        if added and len(added) <= MOST_ADDED and not wide and needed <= set(table.columns):
            reason = _reason(columns, added)
            yield Candidate(IndexDesign(table.name, keys, added), access, reason)
    if access.order:
        for name in touched:
            ordered = (IndexKey(name), *(k for k in access.order if k.column != name))
            yield Candidate(IndexDesign(table.name, ordered), access, _reason((name,)))


def _touched(access: Access) -> list[str]:
    """The columns tested, joined, sorted and grouped by, each once."""
    found = [
        *columns_in(access.equalities), *columns_in(access.joins), *columns_in(access.ranges),
        *(key.column for key in access.order), *access.groups, *columns_in(access.others),
        *columns_in(access.met),
    ]  # fmt: skip
    kept = [n for n in dict.fromkeys(found) if n in access.table.columns]
    # The order of shapes means nothing, and long ones do not fit into an entry.
    return [n for n in kept if not is_by_shape(access.table.columns[n])][:MOST_COLUMNS]


def _reason(columns: tuple[str, ...], added: tuple[str, ...] = ()) -> Message:
    return serves(message("index-taken", columns=columns), read=added)
