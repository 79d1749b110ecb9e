"""Indexes that are there already and that a new one would make superfluous."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Remedy
from humble_ledger.core.remedies.removal import removal_of
from humble_ledger.core.schema.facts import IndexFacts, TableFacts
from humble_ledger.core.schema.index_methods import IndexMethod


def made_superfluous(
    designs: Iterable[IndexDesign],
    tables: Iterable[TableFacts],
    plans: Mapping[str, Plan],
    taken: Sequence[str] = (),
    dialect: Dialect = STANDARD,
) -> list[Remedy]:
    """Removals of indexes whose keys a chosen one begins with, with the queries that used them.

    An index behind a constraint, and one that keeps values unique, has another purpose too.
    ``taken`` are names of indexes for which a removal is proposed already. None is proposed on
    partitioned tables, whose indexes cannot be removed online.
    """
    found = []
    by_table = {table.name: table for table in tables}
    for design in designs:
        table = by_table.get(design.table)
        for index in table.indexes if table is not None and table.kind != "partitioned" else ():
            if index.name in taken or not _within(index, design):
                continue
            assert table is not None
            users = tuple(q for q, plan in plans.items() if plan.uses_index(index.name))
            used = f"{', '.join(users)} used it and would" if users else "what used it would"
            found.append(
                removal_of(
                    table,
                    index,
                    f"the new index on {design.words} begins with all its keys: {used} use that "
                    "one; remove it only when the new one is there",
                    queries=users,
                    dialect=dialect,
                )
            )
    return found


def _within(index: IndexFacts, design: IndexDesign) -> bool:
    return (
        index.valid
        and index.method == design.method == IndexMethod.SORTED
        and not (index.unique or index.primary or index.constraint)
        and index.predicate == design.predicate == ""
        and index.keys == design.keys[: len(index.keys)]
        and set(index.included) <= {*design.included, *design.key_columns}
    )
