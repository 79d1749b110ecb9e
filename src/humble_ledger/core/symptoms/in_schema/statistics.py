"""Statistics that mislead the planner: never gathered, too old, or too coarse for a column."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import replace

from humble_ledger.core.dialect import STANDARD, Dialect, analyzing
from humble_ledger.core.messages import message, moment
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts, TableName
from humble_ledger.core.schema.quoting import identifier, table_identifier
from humble_ledger.core.symptoms.model import Cause, Symptom

TOO_COARSE = "statistics-too-coarse"
FEWEST_PAGES = 8
FEWEST_CHANGES = 1_000
SKEWED = 5.0  # times the average of the values that are not listed


def statistics_symptoms(
    table: TableFacts, tested: Collection[tuple[TableName, str]], dialect: Dialect = STANDARD
) -> Iterable[Symptom]:
    """`statistics-missing`, `statistics-stale` and `statistics-too-coarse` of one table.

    ``tested`` has the columns by which captured queries search or join: of others nobody
    asks for an estimate.
    """
    gather = analyzing(table.name, dialect)
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
            summary=message("statistics-missing", table=table.name, pages=table.pages),
            evidence={"pages": table.pages, "changes": changed},
            cause=Cause("never-analyzed", message("never-analyzed", statement=gather)),
            subject=str(table.name),
        )
        return
    part = changed / table.rows if table.rows else 0.0
    if changed >= FEWEST_CHANGES and table.is_stale:
        yield Symptom(
            name="statistics-stale",
            node=0,
            step="",
            summary=message(
                "statistics-stale",
                changed=changed,
                rows=table.rows,
                table=table.name,
                gathered=moment(table.analyzed_at),
            ),
            evidence={"changes": changed, "rows_estimated": table.rows, "changed_share": part},
            cause=Cause("changed-since", message("changed-since", statement=gather)),
            subject=str(table.name),
        )
    for column in table.columns.values():
        if (table.name, column.name) in tested:
            yield from _too_coarse(table, column, dialect)


def too_coarse_once(found: Iterable[Symptom], root: Mapping[str, TableName]) -> Iterable[Symptom]:
    """The same, with one in place of those of one column in several partitions of a table.

    ``root`` is the partitioned table by the name of each partition. The one that misleads most is
    told, and how many others there are.
    """
    several: dict[tuple[TableName, str], list[Symptom]] = {}
    for symptom in found:
        table, _, column = symptom.subject.rpartition(".")
        if symptom.name == TOO_COARSE and table in root:
            several.setdefault((root[table], column), []).append(symptom)
        else:
            yield symptom
    for (name, _), each in several.items():
        worst = max(each, key=_skew)
        told = message("in-partitions-too", first=worst.summary, more=len(each) - 1, table=name)
        yield replace(worst, summary=told) if len(each) > 1 else worst


def _skew(symptom: Symptom) -> float:
    listed, others = (
        symptom.evidence["rarest_listed_rows"],
        symptom.evidence["others_rows_estimated"],
    )
    return float(listed or 0.0) / max(float(others or 0.0), 1e-9)


def _too_coarse(table: TableFacts, column: ColumnFacts, dialect: Dialect) -> Iterable[Symptom]:
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
        name=TOO_COARSE,
        node=0,
        step="",
        summary=message(
            "statistics-too-coarse",
            table=table.name,
            column=column.name,
            listed=column.common_count,
            rarest=column.rarest_share * table.rows,
            others=average * table.rows,
        ),
        evidence={
            "target": column.target,
            "distinct": distinct,
            "rarest_listed_rows": column.rarest_share * table.rows,
            "others_rows_estimated": average * table.rows,
        },
        cause=Cause(
            "statistics-target-too-small",
            message(
                "statistics-target-too-small",
                skew=skew,
                table=table.name,
                column=column.name,
                target=column.target * 10,
                how=_raised(table, column, dialect),
            ),
        ),
        subject=f"{table.name}.{column.name}",
    )


def _raised(table: TableFacts, column: ColumnFacts, dialect: Dialect) -> str:
    """The statements that list ten times as many values of a column; "" where there are none."""
    if dialect.statistics is None or not dialect.statistics.target or column.target is None:
        return ""
    quoting = dialect.quoting
    whole = table.root or table.name  # setting it there sets it for all partitions
    named = table_identifier(whole, quoting)
    target = dialect.statistics.target.format(
        table=named, column=identifier(column.name, quoting), values=column.target * 10
    )
    return f"{target}, then {analyzing(whole, dialect)}"
