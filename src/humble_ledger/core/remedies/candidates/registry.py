"""All candidates for a plan, whichever way they would serve."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.accesses import accesses
from humble_ledger.core.remedies.candidates.block_ranges import block_ranges
from humble_ledger.core.remedies.candidates.covering import covering
from humble_ledger.core.remedies.candidates.either import either
from humble_ledger.core.remedies.candidates.enclosing import enclosing
from humble_ledger.core.remedies.candidates.expressions import (
    expressions,
    joined_expressions,
    ordered_expressions,
)
from humble_ledger.core.remedies.candidates.extremes import extremes
from humble_ledger.core.remedies.candidates.keys import plain
from humble_ledger.core.remedies.candidates.model import Access, Candidate, IndexAbilities
from humble_ledger.core.remedies.candidates.operator_classes import operator_classes
from humble_ledger.core.remedies.candidates.partial import partial
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.schema.index_methods import IndexMethod

FEWEST_PAGES = 8  # smaller tables are read whole faster than any index helps
_NOTHING_KNOWN = IndexAbilities()


def candidates(
    plan: Plan, tables: Mapping[TableName, TableFacts], means: IndexAbilities = _NOTHING_KNOWN
) -> list[Candidate]:
    """Every candidate for a plan, without those that an existing index already serves.

    Whether a candidate is any good is for the prediction to say.
    """
    found: dict[IndexDesign, Candidate] = {}
    for access in accesses(plan, tables):
        if access.table.pages >= FEWEST_PAGES:
            for each in _all(plan, access, means):
                design = means.possible(each.design, each.access.table)
                beside = [means.possible(other, each.access.table) for other in each.beside]
                if design is None or not all(beside) or not _has_its_columns(access.table, design):
                    continue
                others = tuple(other for other in beside if other is not None)
                one = found.setdefault(design, replace(each, design=design, beside=others))
                if others and not one.beside:
                    found[design] = replace(one, beside=others)
    return list(found.values())


def _has_its_columns(table: TableFacts, design: IndexDesign) -> bool:
    """Whether all keys are columns that an index can have: a row's hidden number is none.

    One in the order of its keys has only columns whose values have an order.
    """
    columns = [table.columns.get(key.column) for key in design.keys if key.column]
    in_order = design.method == IndexMethod.SORTED
    return all(c is not None and (c.sortable or not in_order) for c in columns)


def _all(plan: Plan, access: Access, means: IndexAbilities) -> Iterator[Candidate]:
    yield from plain(plan, access)
    yield from extremes(plan, access)
    yield from covering(plan, access)
    yield from partial(plan, access, means)
    yield from either(plan, access)
    yield from expressions(plan, access, means)
    yield from ordered_expressions(plan, access, means)
    yield from joined_expressions(plan, access, means)
    yield from operator_classes(plan, access, means)
    yield from enclosing(plan, access, means)
    yield from block_ranges(plan, access)
    yield from means.more(access)
