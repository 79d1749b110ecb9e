"""A sample of a table's rows, kept in memory, where conditions and keys are tried out.

SQLite tells no estimates, and its statistics know columns of indexes only. So a few thousand rows
are read once, from places spread over the whole table, and every question is put to these.
"""

from __future__ import annotations

import random
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import apsw

from humble_ledger.core.costs.model import KeySample
from humble_ledger.engines.sqlite.asking import row, rows
from humble_ledger.engines.sqlite.guard import Guard, harden
from humble_ledger.engines.sqlite.one_statement import execute
from humble_ledger.engines.sqlite.reading import limited
from humble_ledger.engines.sqlite.schema import Table
from humble_ledger.errors import StatementRejected

MOST_ROWS = 4_000
PLACES = 100
PATIENCE_MS = 1_000  # for one question: a condition may be any expression
MOST_BYTES = 400  # of one value: longer ones are cut, and only their lengths are remembered
_HEADER_BYTES = 2  # of an index entry, with one more for each value (file format, section 2)
_WIDTH = """CASE typeof({0}) WHEN 'null' THEN 0 WHEN 'real' THEN 8 WHEN 'integer' THEN
  CASE WHEN {0} IN (0, 1) THEN 0 WHEN {0} BETWEEN -128 AND 127 THEN 1
       WHEN {0} BETWEEN -32768 AND 32767 THEN 2 WHEN {0} BETWEEN -8388608 AND 8388607 THEN 3
       WHEN {0} BETWEEN -2147483648 AND 2147483647 THEN 4
       WHEN {0} BETWEEN -140737488355328 AND 140737488355327 THEN 6 ELSE 8 END
  ELSE length(CAST({0} AS BLOB)) END"""


@dataclass(slots=True)
class Sample:
    """Rows of one table in a database of our own; ``whole`` when these are all there are.

    ``seen`` counts them. Each belongs to one of several ``places`` in the table. ``cut_bytes``
    are the mean bytes that values of a column (by its name in quotes) lost here.
    """

    table: Table
    connection: apsw.Connection
    guard: Guard
    seen: int
    whole: bool
    cut_bytes: Mapping[str, float] = field(default_factory=dict)
    _counts: dict[str, float | None] = field(default_factory=dict)

    def share(self, condition: str, alias: str) -> float | None:
        """The part of the rows that meets a condition in SQLite's words; None: it cannot run."""
        key = f"{alias}\x00{condition}"
        if key not in self._counts:
            text = (
                f"SELECT count(*) FROM {quoted(self.table.name)} AS {quoted(alias)} "  # noqa: S608
                f"WHERE {condition}"
            )
            try:
                with limited(self.connection, PATIENCE_MS):
                    (found,) = row(self.connection, text)
                self._counts[key] = float(found)
            except (apsw.Error, StatementRejected):
                self._counts[key] = None
        found = self._counts[key]
        return None if found is None or not self.seen else found / self.seen

    def keys(
        self, expressions: Sequence[str], included: Sequence[str], predicate: str
    ) -> KeySample | None:
        """Entries that an index would have; None when that cannot be told."""
        where = f"WHERE {predicate}" if predicate else ""
        listed = [*expressions, *included]
        widths = " + ".join(_WIDTH.format(f"({each})") for each in listed) or "0"
        keys = ", ".join(f"({each})" for each in expressions) or "1"
        text = f"SELECT humble_place, {widths}, {keys} FROM {quoted(self.table.name)} {where}"  # noqa: S608
        try:
            with limited(self.connection, PATIENCE_MS):
                found = rows(self.connection, text)
        except (apsw.Error, StatementRejected):
            return None
        header = _HEADER_BYTES + len(listed) + sum(self.cut_bytes.get(each, 0.0) for each in listed)
        return KeySample.of(found, self.seen, header, self.whole)

    def analyzed(self, keys: str) -> Analyzed | None:
        """What ANALYZE writes of an index with these keys on the rows of the sample.

        ``keys`` are what stands behind the table's name in the statement that builds it. None
        when it cannot be built.
        """
        name = quoted(self.table.name)
        self.guard.ours = True
        try:
            execute(self.connection, f"CREATE INDEX humble_tried ON {name} {keys}").fetchall()
            self.connection.execute("ANALYZE humble_tried").fetchall()
            numbers = rows(
                self.connection, "SELECT stat FROM sqlite_stat1 WHERE idx = 'humble_tried'"
            )
            kept = rows(
                self.connection,
                "SELECT neq, nlt, ndlt, sample FROM sqlite_stat4 WHERE idx = 'humble_tried'",
            )
            self.connection.execute("DROP INDEX humble_tried").fetchall()
        except (apsw.Error, StatementRejected):
            return None
        finally:
            self.guard.ours = False
        if not numbers:
            return None
        first = [float(word) for word in str(numbers[0][0]).split() if word.isdigit()]
        return Analyzed(first, [(_floats(a), _floats(b), _floats(c), d) for a, b, c, d in kept])

    def column(self, name: str) -> ColumnSample:
        """What the rows show of one column."""
        shown = quoted(name)
        width = _WIDTH.format(shown)
        text = (
            f"SELECT {shown}, count(*), count(DISTINCT humble_place), avg({width}) "  # noqa: S608
            f"FROM {quoted(self.table.name)} GROUP BY 1 ORDER BY 2 DESC"
        )
        found = rows(self.connection, text)
        nulls = sum(count for value, count, _, _ in found if value is None)
        values = [(value, count, places) for value, count, places, _ in found if value is not None]
        total = max(1, self.seen)
        bytes_ = sum(count * float(mean or 0) for _, count, _, mean in found) / total
        return ColumnSample(
            nulls / total,
            len(values),
            sum(1 for _, count, _ in values if count == 1),
            values[0][1] / total if values else 0.0,
            bytes_ + self.cut_bytes.get(shown, 0.0),
            tuple((value, count / total) for value, count, places in values if places > 2)[:100],
            self._correlation(shown),
        )

    def _correlation(self, shown: str) -> float:
        """How far the column grows with the place of its rows, from -1 to 1 (by ranks)."""
        text = (
            f"SELECT rank() OVER (ORDER BY {shown}), row_number() OVER (ORDER BY rowid) "  # noqa: S608
            f"FROM {quoted(self.table.name)}"
        )
        pairs = rows(self.connection, text)
        n = len(pairs)
        if n < 3:
            return 0.0
        mean_x, mean_y = sum(x for x, _ in pairs) / n, sum(y for _, y in pairs) / n
        cov = sum((x - mean_x) * (y - mean_y) for x, y in pairs)
        var_x = sum((x - mean_x) ** 2 for x, _ in pairs)
        var_y = sum((y - mean_y) ** 2 for _, y in pairs)
        return cov / (var_x * var_y) ** 0.5 if var_x > 0 and var_y > 0 else 0.0


@dataclass(frozen=True, slots=True)
class Analyzed:
    """A row of ``sqlite_stat1``, and those of ``sqlite_stat4``: (neq, nlt, ndlt, sample)."""

    numbers: list[float]
    samples: list[tuple[list[float], list[float], list[float], bytes]]


@dataclass(frozen=True, slots=True)
class ColumnSample:
    """One column in a sample: shares of its rows, values that differ, mean bytes of a value.

    ``common`` are values that stand in many places of the table, with their share.
    """

    null_share: float
    distinct: int
    seen_once: int
    top_share: float
    mean_bytes: float
    common: tuple[tuple[object, float], ...]
    correlation: float


def take(connection: apsw.Connection, table: Table, count: float) -> Sample:
    """Read a sample; ``count`` is about how many there are."""
    columns = [each for each in table.columns if not each.hidden]
    names = [quoted(each.name) for each in columns]
    shown = ", ".join([_cut(each) for each in names] + [_lost(each) for each in names])
    name = quoted(table.name)
    found: list[tuple[object, ...]] = []
    whole = count <= MOST_ROWS
    if whole or not table.by_rowid:
        # Without a hidden number there is nothing to leap by: these are the first rows only.
        text = f"SELECT 0, {shown} FROM {name} LIMIT {MOST_ROWS}"  # noqa: S608
        found = rows(connection, text)
        each = max(1, len(found) // PLACES)
        found = [(place // each, *those[1:]) for place, those in enumerate(found)]
        whole = len(found) < MOST_ROWS
    else:
        low, high = row(connection, f"SELECT min(rowid), max(rowid) FROM {name}")  # noqa: S608
        text = (
            f"SELECT rowid, {shown} FROM {name} WHERE rowid >= ? ORDER BY rowid "  # noqa: S608
            f"LIMIT {MOST_ROWS // PLACES}"
        )
        behind = low - 1
        # Anywhere within its part: what repeats at even distances must not look more common.
        chance = random.Random(table.name)
        for place in range(PLACES):
            begin = low + int((high - low) * (place + chance.random()) / PLACES)
            begin = max(begin - MOST_ROWS // PLACES // 2, behind + 1)
            got = rows(connection, text, (begin,))
            if got:
                behind = got[-1][0]
                found += [(place, *those[1:]) for those in got]
    memory = apsw.Connection(":memory:")
    harden(memory)
    declared = ", ".join(
        f"{quoted(each.name)} {each.affinity} COLLATE {_known(each.collation)}" for each in columns
    )
    memory.execute(f"CREATE TABLE {name} (humble_place, {declared})")
    marks = ", ".join("?" for _ in range(len(columns) + 1))
    kept = [each[: len(columns) + 1] for each in found]
    memory.executemany(f"INSERT INTO {name} VALUES ({marks})", kept)  # noqa: S608
    lost = zip(*(each[len(columns) + 1 :] for each in found), strict=True)
    cut = {
        each: sum(float(str(bytes_)) for bytes_ in those) / len(found)
        for each, those in zip(names, lost, strict=False)
    }
    guard = Guard()
    memory.authorizer = guard
    return Sample(table, memory, guard, len(found), whole, cut)


def quoted(name: str) -> str:
    """A name in quotes."""
    return '"' + name.replace('"', '""') + '"'


def _cut(shown: str) -> str:
    """A value as it is, a very long one cut: a sample is small."""
    return f"CASE WHEN {_long(shown)} THEN substr({shown}, 1, {MOST_BYTES}) ELSE {shown} END"


def _lost(shown: str) -> str:
    """How many bytes that cuts off."""
    kept = f"octet_length(substr({shown}, 1, {MOST_BYTES}))"
    return f"CASE WHEN {_long(shown)} THEN octet_length({shown}) - {kept} ELSE 0 END"


def _long(shown: str) -> str:
    # The length in bytes stands in front of a row; that in characters must be counted.
    return f"typeof({shown}) IN ('text', 'blob') AND octet_length({shown}) > {MOST_BYTES}"


def _floats(text: object) -> list[float]:
    return [float(word) for word in str(text).split()]


def _known(collation: str) -> str:
    """One of the three collations that are always there; another sorts by bytes in a sample."""
    return collation if collation in ("binary", "nocase", "rtrim") else "binary"
