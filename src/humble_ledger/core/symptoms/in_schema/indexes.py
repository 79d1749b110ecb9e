"""Indexes that cost writes and space for nothing: repeated, contained, unused, invalid."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.messages import Message, message
from humble_ledger.core.schema.facts import IndexFacts, IndexKey, TableFacts, TableName
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.symptoms.model import Cause, Evidence, Symptom

FEWEST_PAGES = 8
FEWEST_READS = 10  # of a table, below which nothing is said of what they did not use
FEWEST_QUERIES = 5  # captured on a table, below which nothing is said of its indexes
LONG_ENOUGH = timedelta(days=7)


@dataclass(frozen=True, slots=True)
class CapturedUse:
    """What the plans of captured queries use: how many read each table, and which indexes.

    ``complete`` unless a captured query has no plan: then nobody can say what none of them uses.
    """

    queries: Mapping[TableName, int] = field(default_factory=dict)
    indexes: frozenset[tuple[TableName, str]] = frozenset()
    complete: bool = True


_NOTHING_CAPTURED = CapturedUse()


def index_symptoms(
    table: TableFacts,
    now: datetime,
    used: CapturedUse = _NOTHING_CAPTURED,
    dialect: Dialect = STANDARD,
) -> Iterable[Symptom]:
    """`duplicate-index`, `redundant-index`, `unused-index` and `invalid-index` of one table.

    Where the server counts no use of indexes, those are named that no captured query uses.
    """
    told: set[str] = set()
    for index in table.indexes:
        if not index.valid:
            told.add(index.name)
            yield _invalid(table, index, dialect)
    valid = [index for index in table.indexes if index.valid]
    serving: set[str] = set()  # in place of those that may go
    for index in [each for each in valid if not each.attached]:
        twin = next((other for other in valid if _spares(other, index, told)), None)
        if twin is not None:
            told.add(index.name)
            serving.add(twin.name)
            yield _repeated(table, index, twin, now)
    for index in valid:
        if index.name in serving or _alone_for_a_key(table, index, told):
            continue
        if (table.name, index.name) in used.indexes:
            continue
        if index.name not in told and _unused(table, index):
            told.add(index.name)
            yield _symptom(
                "unused-index",
                table,
                index,
                message("not-used-once", since=_since(table, now)),
                Cause("nobody-searches-by-it", _window(table, now)),
            )
        elif index.name not in told and _not_captured(table, index, used):
            told.add(index.name)
            yield _symptom(
                "unused-index",
                table,
                index,
                message("used-by-no-captured", queries=used.queries[table.name], table=table.name),
                Cause(
                    "nobody-searches-by-it",
                    message("told-by-captured-plans"),
                ),
            )


def merged_into(table: TableFacts, index: IndexFacts) -> IndexFacts | None:
    """The index of a table that serves all that this one serves; None when it is needed."""
    valid = [each for each in table.indexes if each.valid]
    return next((other for other in valid if _spares(other, index, set())), None)


def _spares(other: IndexFacts, index: IndexFacts, told: set[str]) -> bool:
    """Whether ``other`` serves all that ``index`` does, and is the one to keep."""
    if other.name == index.name or other.name in told or other.method != index.method:
        return False
    if index.unique or index.constraint or index.predicate != other.predicate:
        return False
    mine, theirs = [_key(k) for k in index.keys], [_key(k) for k in other.keys]
    held = {*other.key_columns, *other.included}
    if not set(index.included) <= held:
        return False
    if mine == theirs:
        # Of two that are the same, the unique one stays, else the one that holds more.
        if other.unique or len(other.included) > len(index.included):
            return True
        return set(other.included) <= set(index.included) and other.name < index.name
    return index.method == IndexMethod.SORTED and theirs[: len(mine)] == mine


def _key(key: IndexKey) -> tuple[object, ...]:
    return (
        key.column, key.expression, key.descending, key.nulls_first, key.operator_class,
        key.collation,
    )  # fmt: skip


def _unused(table: TableFacts, index: IndexFacts) -> bool:
    """Whether nothing used it although its table was read; unique ones guard, used or not."""
    if index.scans is None or index.scans or index.unique or index.constraint or index.attached:
        return False
    read = table.reads.full_scans + table.reads.index_scans
    return index.pages >= FEWEST_PAGES and read >= FEWEST_READS


def _alone_for_a_key(table: TableFacts, index: IndexFacts, told: set[str]) -> bool:
    """Whether it is the only index by which a foreign key finds its rows, once the others go.

    Nothing counts before a row on the other side is deleted, and then each one needs it.
    """

    def supports(other: IndexFacts, columns: set[str]) -> bool:
        first = set(other.key_columns[: len(columns)])
        return other.valid and not other.predicate and first == columns

    return any(
        supports(index, set(key.columns))
        and not any(
            supports(other, set(key.columns)) and other.name not in told
            for other in table.indexes
            if other.name != index.name
        )
        for key in table.foreign_keys
    )


def _not_captured(table: TableFacts, index: IndexFacts, used: CapturedUse) -> bool:
    if table.counted or index.unique or index.constraint or index.pages < FEWEST_PAGES:
        return False
    enough = used.queries.get(table.name, 0) >= FEWEST_QUERIES
    return used.complete and enough and (table.name, index.name) not in used.indexes


def _invalid(table: TableFacts, index: IndexFacts, dialect: Dialect) -> Symptom:
    return _symptom(
        "invalid-index",
        table,
        index,
        message("maintained-and-unusable"),
        Cause(
            "build-failed",
            message("build-failed", again=dialect.rebuilt_online),
        ),
    )


def _repeated(table: TableFacts, index: IndexFacts, twin: IndexFacts, now: datetime) -> Symptom:
    same = len(index.keys) == len(twin.keys)
    keys = [key.column or key.expression for key in index.keys]
    return _symptom(
        "duplicate-index" if same else "redundant-index",
        table,
        index,
        message("repeats" if same else "begins", other=twin.name),
        Cause(
            "another-index-serves",
            message(
                "another-index-serves",
                other=twin.name,
                keys=keys,
                same=same,
                scans=index.scans,
                since=_since(table, now),
            ),
        ),
    )


def _symptom(
    name: str,
    table: TableFacts,
    index: IndexFacts,
    what: Message,
    cause: Cause,
) -> Symptom:
    kept_up = written_to(table) if table.counted else None
    evidence: Evidence = {
        "size_bytes": index.size_bytes,
        "rows_written": kept_up,
        "scans": index.scans,
        "counted_since": table.counted_since.isoformat() if table.counted_since else None,
        "definition": index.definition,
    }
    return Symptom(
        name=name,
        node=0,
        step="",
        summary=message(
            "index-for-nothing",
            index=index.name,
            what=what,
            size_bytes=index.size_bytes,
            written=kept_up,
        ),
        evidence=evidence,
        cause=cause,
        subject=f"{table.name}.{index.name}",
    )


def written_to(table: TableFacts) -> int:
    """Row versions that an index of this table had to take: inserts, and updates not in page.

    The server counts them by table; an index made later took fewer.
    """
    writes = table.writes
    return writes.inserted + writes.updated - writes.updated_in_page


def _since(table: TableFacts, now: datetime) -> Message:
    since = table.counted_since
    minutes = None if since is None else (now - since).total_seconds() / 60
    return message("since-counters-were-reset", minutes=minutes)


def _window(table: TableFacts, now: datetime) -> Message:
    reads = table.reads.full_scans + table.reads.index_scans
    long = table.counted_since is not None and now - table.counted_since >= LONG_ENOUGH
    return message("read-without-it", table=table.name, times=reads, long_enough=long)
