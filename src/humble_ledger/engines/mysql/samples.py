"""A bounded look at a table's rows, where conditions and keys are tried out.

Neither member can sample by itself, and without a histogram neither knows how many rows meet a
condition on a column that no index begins with. So a few thousand rows are read by the primary
key, from places spread over the whole table: short ranges that begin anywhere in their part.
"""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.schema.facts import IndexKey, TableName
from humble_ledger.core.statements.conditions import columns_of
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.expressions import computed
from humble_ledger.engines.mysql.naming import condition, place, quoted
from humble_ledger.engines.mysql.values import as_text
from humble_ledger.errors import HumbleError

MOST_ROWS = 4_000
PLACES = 250
_ENTRY_BYTES = 5
NO_LENGTHS: Mapping[str, int] = {}


@dataclass(slots=True)
class Sample:
    """Where rows of a table are looked at. ``columns`` are all it has, ``begins`` the conditions
    by which each place begins; () when the first rows must do. ``whole``: these are all there are.
    """

    connection: Connection
    table: TableName
    columns: Sequence[str]
    order: Sequence[str]
    begins: Sequence[int] = ()
    whole: bool = False
    _shares: dict[str, tuple[float, float] | None] = field(default_factory=dict)
    _keys: dict[str, KeySample | None] = field(default_factory=dict)

    def counts(self, conditions: Sequence[str], alias: str) -> tuple[float, float] | None:
        """Rows that meet all conditions and rows seen; None when that cannot be asked."""
        key = "\0".join((alias, *conditions))
        if key not in self._shares:
            try:
                self._shares[key] = self._counted(conditions, alias)
            except HumbleError:
                self._shares[key] = None
        return self._shares[key]

    def _counted(self, conditions: Sequence[str], alias: str) -> tuple[float, float]:
        met = " AND ".join(condition(text) for text in conditions) or "1"
        wanted = {ref.column for text in conditions for ref in columns_of(text)}
        used = [c for c in self.columns if c in wanted or c.lower() in wanted] or self.columns[:1]
        parts = [
            f"SELECT COUNT(*), COALESCE(SUM(({met}) IS TRUE), 0) FROM ({each}) {quoted(alias)}"
            for each in self._ranges(used)
        ]
        found = self.connection.rows(" UNION ALL ".join(parts))
        return sum(float(r[1]) for r in found), sum(float(r[0]) for r in found)

    def keys(
        self,
        held: Sequence[IndexKey],
        predicate: str = "",
        lengths: Mapping[str, int] = NO_LENGTHS,
    ) -> KeySample | None:
        """Entries that an index on these keys would have; None when that cannot be told.

        Columns of fixed ``lengths`` (bytes) take these: a number's text has another.
        """
        key = "\0".join((predicate, *(each.column or each.expression for each in held)))
        if key not in self._keys:
            try:
                self._keys[key] = self._sampled(held, predicate, lengths)
            except HumbleError:
                self._keys[key] = None
        return self._keys[key]

    def _sampled(
        self, held: Sequence[IndexKey], predicate: str, lengths: Mapping[str, int]
    ) -> KeySample:
        texts = [predicate, *(each.expression for each in held)]
        wanted = {ref.column.lower() for text in texts if text for ref in columns_of(text)}
        columns = [each.column for each in held if each.column]
        used = list(dict.fromkeys([*columns, *(c for c in self.columns if c.lower() in wanted)]))
        met = f" WHERE {condition(predicate)}" if predicate else ""
        alias = quoted(self.table.name)
        shown = ", ".join(computed(each) for each in held) or "1"
        sizes = (
            str(lengths[each.column])
            if each.column in lengths
            else f"COALESCE(OCTET_LENGTH({computed(each)}), 0)"
            for each in held
        )
        width = " + ".join(sizes) or "0"
        parts = [
            f"SELECT {number}, {width}, {shown} FROM ({each}) {alias}{met}"
            for number, each in enumerate(self._ranges(used or self.columns[:1]))
        ]
        found = self._in_places(self.connection.rows(" UNION ALL ".join(parts)))
        seen = self.counts((), self.table.name)
        return KeySample.of(found, int(seen[1]) if seen else len(found), _ENTRY_BYTES, self.whole)

    def shown(self, columns: Sequence[str]) -> Mapping[str, ColumnSeen]:
        """What the rows show of each column, read all at once."""
        if not columns:
            return {}
        parts = [
            f"SELECT {number}, {', '.join(quoted(c) for c in columns)} FROM ({each}) p"
            for number, each in enumerate(self._ranges(columns))
        ]
        rows = self._in_places(self.connection.rows(" UNION ALL ".join(parts)))
        found = {}
        for at, name in enumerate(columns, 1):
            found[name] = _seen([(row[0], row[at]) for row in rows], self.whole)
        return found

    def values(self, column: str) -> Sequence[tuple[Any, ...]]:
        """Each value with how often it was seen and in how many places, the most common first."""
        shown = quoted(column)
        parts = [
            f"SELECT {number} AS n, {shown} AS v FROM ({each}) p"
            for number, each in enumerate(self._ranges([column]))
        ]
        inner = " UNION ALL ".join(parts)
        return self.connection.rows(
            "SELECT v, COUNT(*), COUNT(DISTINCT n), AVG(OCTET_LENGTH(v)) "
            f"FROM ({inner}) s GROUP BY v ORDER BY 2 DESC"
        )

    def _in_places(self, rows: Sequence[tuple[Any, ...]]) -> Sequence[tuple[Any, ...]]:
        """The rows with the number of their place in front; one long place is parted in many."""
        if self.begins:
            return rows
        each = MOST_ROWS // PLACES
        return [(number // each, *row[1:]) for number, row in enumerate(rows)]

    def _ranges(self, columns: Sequence[str]) -> list[str]:
        """A statement for each place that gives some columns of the rows there."""
        names = list(dict.fromkeys([*columns]))
        shown = ", ".join(quoted(c) for c in names) or "1"
        source = place(self.table)
        if not self.begins:
            return [f"SELECT {shown} FROM {source} LIMIT {MOST_ROWS}"]
        order = ", ".join(quoted(c) for c in self.order)
        first = quoted(self.order[0])
        each = MOST_ROWS // len(self.begins)
        return [
            f"SELECT {shown} FROM {source} FORCE INDEX (PRIMARY) WHERE {first} >= {begin} "
            f"ORDER BY {order} LIMIT {each}"
            for begin in self.begins
        ]


@dataclass(frozen=True, slots=True)
class ColumnSeen:
    """One column of a sample: shares of its rows, mean bytes, and entries as of an index on it."""

    null_share: float
    top_share: float
    mean_bytes: float
    entries: KeySample


def _seen(pairs: Sequence[tuple[int, Any]], whole: bool) -> ColumnSeen:
    total = max(1, len(pairs))
    values = [(number, value) for number, value in pairs if value is not None]
    lengths = [len(as_text(value) or b"") for _, value in values]
    counted = Counter(value for _, value in values)
    entries = KeySample.of([(n, 0, v) for n, v in values], len(pairs), _ENTRY_BYTES, whole)
    return ColumnSeen(
        1.0 - len(values) / total,
        max(counted.values(), default=0) / total,
        sum(lengths) / max(1, len(lengths)),
        entries,
    )


def places_in(low: int, high: int, rows: float, name: str) -> list[int]:
    """Where short ranges begin: anywhere within their parts, and none inside another."""
    chance = random.Random(name)
    span = max(1, high - low + 1)
    count = min(PLACES, max(1, int(rows // (MOST_ROWS / PLACES))))
    found = {low + int(span * (part + chance.random() * 0.9) / count) for part in range(count)}
    return sorted(found)
