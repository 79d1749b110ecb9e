"""Tables like the target's with a few rows in them, on which two statements are told apart."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field

import apsw

from humble_ledger.core.remedies.counterexamples.model import Answer, Row, SmallDatabase
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.sqlite.ground import Ground
from humble_ledger.engines.sqlite.guard import Guard, harden
from humble_ledger.engines.sqlite.one_statement import execute
from humble_ledger.engines.sqlite.reading import limited
from humble_ledger.engines.sqlite.samples import quoted
from humble_ledger.engines.sqlite.schema import Table
from humble_ledger.engines.sqlite.values import as_text, prepared, typed
from humble_ledger.errors import StatementRejected, TargetUnreachable

STATEMENT_MS = 2_000
MOST_ANSWERS = 2_000
_TEXTS = ("a", "", "b", "A", "ab", "1", "01", "a%", "é", " a")
_WHOLE = ("1", "2", "0", "3", "-1", "2147483648")
_BROKEN = ("1", "2", "0", "1.5", "-1", "0.1")
# By affinity; a column that takes anything gets both.
_TYPICAL: Mapping[str, tuple[str, ...]] = {
    "INTEGER": _WHOLE, "REAL": _BROKEN, "NUMERIC": (*_BROKEN, "a"), "TEXT": _TEXTS,
    "BLOB": (*_WHOLE[:3], *_TEXTS[:5]),
}  # fmt: skip
_DAYS = ("2026-03-01", "2026-02-28", "2024-02-29", "2026-03-01 12:30:00")


@dataclass(slots=True)
class SqliteArena:
    """See `core.remedies.counterexamples.model.Arena`."""

    connection: apsw.Connection
    tables: Mapping[str, Table]
    _columns: dict[TableName, list[str]] = field(default_factory=dict)

    def typical(
        self, table: TableName, constants: Mapping[str, Sequence[str]]
    ) -> Mapping[str, Sequence[str]]:
        """Values of each column's kind, those beside the constants first."""
        found: dict[str, list[str]] = {}
        for column in self.tables[table.name].columns:
            if column.hidden:
                continue
            near = [n for v in constants.get(column.name, ()) for n in _beside(v)]
            kind = column.type_name.upper()
            dates = _DAYS if "DATE" in kind or "TIME" in kind else ()
            found[column.name] = list(dict.fromkeys([*near, *dates, *_TYPICAL[column.affinity]]))
        self._columns[table] = list(found)
        return found

    @contextmanager
    def filled(
        self, database: SmallDatabase, *, backwards: bool = False
    ) -> Iterator[_FilledTables]:
        """Put the rows in, and take them out again."""
        self.connection.execute("BEGIN")
        try:
            there = {}
            for table, rows in database.rows.items():
                kept = self._insert(table, rows[::-1] if backwards else rows)
                there[table] = kept[::-1] if backwards else kept
            yield _FilledTables(self.connection, SmallDatabase(there, database.time_zone))
        finally:
            self.connection.execute("ROLLBACK")

    def _insert(self, table: TableName, rows: Sequence[Row]) -> tuple[Row, ...]:
        """Insert row by row; those that a constraint refuses are left out."""
        columns = self._columns[table]
        if not columns:
            return ()
        listed = ", ".join(map(quoted, columns))
        marks = ", ".join("?" for _ in columns)
        text = f"INSERT INTO {quoted(table.name)} ({listed}) VALUES ({marks})"  # noqa: S608
        kept = []
        for row in rows:
            with contextlib.suppress(apsw.Error):
                self.connection.execute(text, [typed(row.get(c)) for c in columns])
                kept.append(row)
        return tuple(kept)


@dataclass(frozen=True, slots=True)
class _FilledTables:
    connection: apsw.Connection
    database: SmallDatabase

    def ask(self, statement: Statement) -> Answer:
        """Run a statement; a refusal is an answer, too."""
        try:
            with limited(self.connection, STATEMENT_MS):
                rows = []
                for row in execute(self.connection, *prepared(statement)):
                    rows.append(
                        tuple(
                            None if v is None else (as_text(v) or b"").decode("utf-8", "replace")
                            for v in row
                        )
                    )
                    if len(rows) >= MOST_ANSWERS:
                        break
                return Answer(tuple(rows))
        except (apsw.Error, StatementRejected) as error:
            return Answer(error=" ".join(str(error).split()))


@contextmanager
def arena_over(ground: Ground, tables: Sequence[TableName]) -> Iterator[SqliteArena]:
    """An arena over these tables, and over the views that rest on them.

    Raises:
        TargetUnreachable: a table cannot be made again.
    """
    connection = apsw.Connection(":memory:")
    harden(connection)
    connection.authorizer = Guard(writes=True)
    try:
        known = {}
        for name in tables:
            table = ground.table(name.name)
            if table is None:
                raise TargetUnreachable(f"There is no table {name} any more.")
            known[name.name] = table
            try:
                execute(connection, table.sql)
                for index in table.indexes:
                    if index.sql and index.unique:
                        execute(connection, index.sql)
            except (apsw.Error, StatementRejected) as error:
                raise TargetUnreachable(f"{name} cannot be made again: {error}.") from error
        for view in ground.schema.values():
            if view.kind == "view":
                with contextlib.suppress(apsw.Error, StatementRejected):
                    execute(connection, view.sql)
        yield SqliteArena(connection, known)
    finally:
        connection.close()


def _beside(value: str) -> list[str]:
    """A value, and those just beside it."""
    found = typed(value)
    if isinstance(found, int):
        return [value, str(found + 1), str(found - 1)]
    if isinstance(found, float):
        return [value, str(found + 0.5)]
    return [value, value + "a", value.swapcase(), value[:-1]] if value else [value]
