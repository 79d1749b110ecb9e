"""Tables like the target's with a few rows in them, on which two statements are told apart.

They stand in a database of their own on the copy's server, with the constraints of the target as
far as these are among the tables themselves; rows are put in and taken out by a transaction.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field

from humble_ledger.core.remedies.counterexamples.model import Answer, Row, SmallDatabase
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.mysql.connection import Connection, connect
from humble_ledger.engines.mysql.explain import prepared
from humble_ledger.engines.mysql.hollow.house import SMALL as DATABASE
from humble_ledger.engines.mysql.hollow.source import Column, SourceTable
from humble_ledger.engines.mysql.naming import quoted
from humble_ledger.engines.mysql.values import as_text
from humble_ledger.errors import HumbleError, StatementRejected, TargetUnreachable

STATEMENT_MS = 2_000
MOST_ANSWERS = 2_000
_ENGINE = re.compile(r"\bENGINE=\w+")
_TEXTS = ("a", "", "b", "A", "ab", "1", "01", "a%", "é", "a ")
_MOMENTS = ("2026-03-01 00:00:00", "2026-03-01 12:30:00", "2026-02-28 23:59:59",
            "2024-02-29 00:00:00", "2026-03-29 02:30:00")  # fmt: skip
_WHOLE = ("1", "2", "0", "3", "-1")
_BROKEN = ("1", "2", "0", "1.5", "-1", "0.1")
# By the name of a type without its length.
_TYPICAL: Mapping[str, tuple[str, ...]] = {
    "tinyint": (*_WHOLE, "127"), "smallint": (*_WHOLE, "32767"), "mediumint": _WHOLE,
    "int": (*_WHOLE, "2147483647"), "bigint": (*_WHOLE, "9223372036854775807"),
    "decimal": _BROKEN, "float": _BROKEN, "double": (*_BROKEN, "1e20"), "bit": ("0", "1"),
    "char": _TEXTS, "varchar": _TEXTS, "tinytext": _TEXTS, "text": _TEXTS, "mediumtext": _TEXTS,
    "longtext": (*_TEXTS, "{}", '{"a": 1}'), "json": ("{}", '{"a": 1}', "[1, 2]", "null"),
    "binary": _TEXTS[:6], "varbinary": _TEXTS[:6], "blob": _TEXTS[:6],
    "date": ("2026-03-01", "2026-02-28", "2024-02-29", "2026-12-31"),
    "datetime": _MOMENTS, "timestamp": _MOMENTS, "time": ("00:00:00", "12:30:00", "23:59:59"),
    "year": ("2026", "2025", "2000"),
    "uuid": tuple(f"00000000-0000-4000-8000-00000000000{n}" for n in range(1, 4)),
    "inet4": ("10.0.0.1", "10.0.0.2"), "inet6": ("::1", "::2"),
}  # fmt: skip
_NUMBERS = ("tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "float", "double")
_LABELS = re.compile(r"'((?:[^']|'')*)'")
_MOST_LABELS = 8


@dataclass(slots=True)
class MysqlArena:
    """See `core.remedies.counterexamples.model.Arena`."""

    connection: Connection
    tables: Mapping[TableName, SourceTable]
    _columns: dict[TableName, list[str]] = field(default_factory=dict)

    def typical(
        self, table: TableName, constants: Mapping[str, Sequence[str]]
    ) -> Mapping[str, Sequence[str]]:
        """Values of each column's kind, those beside the constants first."""
        found: dict[str, list[str]] = {}
        for column in self.tables[table].columns:
            near = [n for v in constants.get(column.name, ()) for n in self._beside(column, v)]
            found[column.name] = list(dict.fromkeys([*near, *_values(column)]))
        self._columns[table] = list(found)
        return found

    def _beside(self, column: Column, value: str) -> list[str]:
        """A value and those just beside it, by the server's own arithmetic."""
        if column.kind in _NUMBERS:
            forms = ["%s + 0", "%s + 1", "%s - 1"]
        elif column.kind == "date":
            forms = ["DATE(%s)", "DATE(%s) + INTERVAL 1 DAY", "DATE(%s) - INTERVAL 1 DAY"]
        elif column.kind in ("datetime", "timestamp"):
            one = "CAST(%s AS DATETIME)"
            forms = [one, f"{one} - INTERVAL 1 SECOND", f"{one} + INTERVAL 1 DAY"]
        else:
            return [value, value + "a", value.swapcase(), value[:-1]] if value else [value]
        found = []
        for form in forms:
            with contextlib.suppress(HumbleError):
                said = as_text(self.connection.one(f"SELECT {form}", value))
                if said is not None:
                    found.append(said.decode("utf-8", "replace"))
        return found

    @contextmanager
    def filled(
        self, database: SmallDatabase, *, backwards: bool = False
    ) -> Iterator[_FilledTables]:
        """Put the rows in, and take them out again."""
        zone = self.connection.one("SELECT @@SESSION.time_zone")
        self.connection.do("START TRANSACTION")
        try:
            if database.time_zone:
                with contextlib.suppress(HumbleError):  # few servers know zones by their names
                    self.connection.asked("SET time_zone = %s", database.time_zone)
            there = {}
            for table, rows in database.rows.items():
                kept = self._insert(table, rows[::-1] if backwards else rows)
                there[table] = kept[::-1] if backwards else kept
            yield _FilledTables(self.connection, SmallDatabase(there, database.time_zone))
        finally:
            self.connection.do("ROLLBACK")
            self.connection.asked("SET time_zone = %s", zone)

    def _insert(self, table: TableName, rows: Sequence[Row]) -> tuple[Row, ...]:
        """Insert row by row; those that a constraint refuses are left out."""
        columns = self._columns[table]
        if not columns:
            return ()
        listed, marks = ", ".join(map(quoted, columns)), ", ".join("%s" for _ in columns)
        kept = []
        for row in rows:
            with contextlib.suppress(HumbleError):
                self.connection.asked(
                    f"INSERT INTO {quoted(table.name)} ({listed}) VALUES ({marks})",
                    *(row.get(c) for c in columns),
                )
                kept.append(row)
        return tuple(kept)


@dataclass(frozen=True, slots=True)
class _FilledTables:
    connection: Connection
    database: SmallDatabase

    def ask(self, statement: Statement) -> Answer:
        """Run a statement; a refusal is an answer, too."""
        try:
            rows = self.connection.rows(prepared(self.connection, statement))
        except (HumbleError, StatementRejected) as error:
            return Answer(error=str(error))
        return Answer(tuple(tuple(map(_shown, row)) for row in rows[:MOST_ANSWERS]))


def _shown(value: object) -> str | None:
    text = as_text(value)
    return None if text is None else text.decode("utf-8", "replace")


def _values(column: Column) -> Sequence[str]:
    if column.kind in ("enum", "set"):
        found = _LABELS.findall(column.type_name)
        return [each.replace("''", "'") for each in found[:_MOST_LABELS]]
    values = _TYPICAL.get(column.kind, ())
    if column.characters is not None:
        return [value for value in values if len(value) <= column.characters]
    return values


@contextmanager
def arena_over(
    url: str,
    modes: str,
    tables: Mapping[TableName, SourceTable],
    views: Mapping[str, str],
) -> Iterator[MysqlArena]:
    """An arena over these tables, and over the views that rest on them.

    Raises:
        HumbleError: a table cannot be made again.
    """
    connection = connect(url, Limits(statement_ms=STATEMENT_MS), read_only=False, database=False)
    try:
        connection.do(f"DROP DATABASE IF EXISTS {DATABASE}")
        connection.do(f"CREATE DATABASE {DATABASE}")
        connection.do(f"USE {DATABASE}")
        connection.do("SET SESSION foreign_key_checks = 0")
        for name, table in tables.items():
            try:
                connection.do(_ENGINE.sub("ENGINE=InnoDB", table.sql))
            except HumbleError as error:
                raise TargetUnreachable(f"{name} cannot be made again: {error}.") from error
        _let_go_of_others(connection, tables)
        for sql in views.values():
            with contextlib.suppress(HumbleError):
                connection.do(sql)
        connection.do("SET SESSION foreign_key_checks = 1")
        connection.asked("SET SESSION sql_mode = %s", modes)
        connection.modes = modes
        yield MysqlArena(connection, tables)
    finally:
        with contextlib.suppress(HumbleError):
            connection.do(f"DROP DATABASE IF EXISTS {DATABASE}")
        connection.close()


def _let_go_of_others(connection: Connection, tables: Mapping[TableName, SourceTable]) -> None:
    """Drop the references to tables that are not there: no row could be put in."""
    there = {table.name.lower() for table in tables.values()}
    rows = connection.asked(
        "SELECT TABLE_NAME, CONSTRAINT_NAME, REFERENCED_TABLE_NAME "
        "FROM information_schema.REFERENTIAL_CONSTRAINTS WHERE CONSTRAINT_SCHEMA = %s",
        DATABASE,
    )
    for table, constraint, other in rows:
        if str(other).lower() not in there:
            connection.do(
                f"ALTER TABLE {quoted(str(table))} DROP FOREIGN KEY {quoted(str(constraint))}"
            )
