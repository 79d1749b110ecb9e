"""Statistics that mislead the planner: never gathered, too old, or too coarse for a column."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from humble_ledger.core.schema.facts import ColumnFacts, TableFacts, TableName
from humble_ledger.core.symptoms.model import Cause, Symptom

FEWEST_PAGES = 8
FEWEST_CHANGES = 1_000
SKEWED = 5.0  # times the average of the values that are not listed


def statistics_symptoms(
    table: TableFacts, tested: Collection[tuple[TableName, str]]
) -> Iterable[Symptom]:
    """`statistics-missing`, `statistics-stale` and `statistics-too-coarse` of one table.

    ``tested`` has the columns by which captured queries search or join: of others nobody
    asks for an estimate.
    """
    if table.kind == "partitioned" or table.pages < FEWEST_PAGES:
        return
    known = table.gathered
    if known is None:
        known = any(column.distinct is not None for column in table.columns.values())
    changed = table.changes_unseen
    if not known:
        yield Symptom(
            name="statistics-missing",
            node=0,
            step="",
            summary=f"no statistics were gathered on {table.name}, {table.pages:,} pages",
            evidence={"pages": table.pages, "changes": changed},
            cause=Cause("never-analyzed", f"the planner guesses; ANALYZE {table.name} tells it"),
            subject=str(table.name),
        )
        return
    part = changed / table.rows if table.rows else 0.0
    if changed >= FEWEST_CHANGES and table.is_stale:
        at = table.analyzed_at
        when = f"gathered {at:%Y-%m-%d %H:%M}" if at else "gathered at a time not known"
        yield Symptom(
            name="statistics-stale",
            node=0,
            step="",
            summary=(
                f"{changed:,} of {table.rows:,.0f} rows of {table.name} changed since its "
                f"statistics were {when}"
            ),
            evidence={"changes": changed, "rows_estimated": table.rows, "changed_share": part},
            cause=Cause("changed-since", f"ANALYZE {table.name} gathers them anew"),
            subject=str(table.name),
        )
    for column in table.columns.values():
        if (table.name, column.name) in tested:
            yield from _too_coarse(table, column)


def _too_coarse(table: TableFacts, column: ColumnFacts) -> Iterable[Symptom]:
    """The list of common values is full, and its last one is far from rare.

    Then values just behind it are about as common, but estimated as the average of all that
    are not listed.
    """
    distinct = column.distinct_values(table.rows)
    if column.target is None or distinct is None or column.common_count < column.target:
        return
    others = distinct - column.common_count
    left = 1.0 - column.common_share - (column.null_share or 0.0)
    if others < 1 or left <= 0 or table.rows <= 0:
        return
    average = left / others
    skew = column.rarest_share / average
    if skew < SKEWED:
        return
    yield Symptom(
        name="statistics-too-coarse",
        node=0,
        step="",
        summary=(
            f"{table.name}.{column.name}: the {column.common_count} listed values end at one with "
            f"{column.rarest_share * table.rows:,.0f} rows; all others are estimated at "
            f"{average * table.rows:,.0f}"
        ),
        evidence={
            "target": column.target,
            "distinct": distinct,
            "rarest_listed_rows": column.rarest_share * table.rows,
            "others_rows_estimated": average * table.rows,
        },
        cause=Cause(
            "statistics-target-too-small",
            f"values just behind the list are misjudged up to {skew:,.0f} times; ALTER TABLE "
            f"{table.name} ALTER COLUMN {column.name} SET STATISTICS {column.target * 10}, then "
            "ANALYZE",
        ),
        subject=f"{table.name}.{column.name}",
    )
