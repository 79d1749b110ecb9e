"""Every way in which a statement could be written otherwise."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.remedies.rewrites.alternatives import branches
from humble_ledger.core.remedies.rewrites.comparisons import rewritings as comparisons
from humble_ledger.core.remedies.rewrites.geometry import by_shapes
from humble_ledger.core.remedies.rewrites.grouping import grouped_before_join, per_row_to_join
from humble_ledger.core.remedies.rewrites.inlining import inlined
from humble_ledger.core.remedies.rewrites.membership import distinct_to_exists, not_in
from humble_ledger.core.remedies.rewrites.model import Reading, Rewriting, read
from humble_ledger.core.remedies.rewrites.narrowed_groups import groups_asked_for
from humble_ledger.core.remedies.rewrites.paging import by_last_row
from humble_ledger.core.remedies.rewrites.repeated import once
from humble_ledger.core.remedies.rewrites.top_rows import first_of_each
from humble_ledger.core.remedies.rewrites.unions import without_removal
from humble_ledger.core.remedies.rewrites.untied import questions
from humble_ledger.core.schema.facts import TableFacts, TableName

_RULES: tuple[Callable[[Reading], Iterator[Rewriting]], ...] = (
    branches, not_in, distinct_to_exists, per_row_to_join, grouped_before_join, by_last_row,
    once, by_shapes, questions,
)  # fmt: skip
# These also read statements whose sources are not all tables.
_OF_WHOLE_STATEMENTS: tuple[
    Callable[[str, Mapping[TableName, TableFacts], Dialect], Iterator[Rewriting]], ...
] = (comparisons, inlined, first_of_each, groups_asked_for, without_removal)


def rewritings(
    sql: str, tables: Mapping[TableName, TableFacts], dialect: Dialect = STANDARD
) -> Iterator[Rewriting]:
    """All of them for one statement; nothing when it cannot be read."""
    for whole in _OF_WHOLE_STATEMENTS:
        yield from whole(sql, tables, dialect)
    reading = read(sql, tables, dialect)
    if reading is not None:
        for rule in _RULES:
            yield from rule(reading)
