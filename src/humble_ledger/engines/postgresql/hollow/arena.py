"""Tables like the target's with a few rows in them, inside one transaction of a hollow.

The hollow's own tables only look as if they had rows. So each is renamed aside and one like it,
with its constraints, takes its name; the transaction is rolled back, and nothing of it stays.
It is the role of the hollow that does this, which may do nothing outside its own database.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import psycopg
from psycopg import sql

from humble_ledger.core.remedies.counterexamples.model import Answer, Row, SmallDatabase
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.hollow.typical import beside, typical_values
from humble_ledger.engines.postgresql.one_statement import UserCursor, texts_of

_ASIDE = "humble_aside_"
_POINT = "humble_small"
_ROW = "humble_row"
STATEMENT_MS = 2_000
MOST_ANSWERS = 2_000  # rows of one answer: a few rows joined to each other have no more

_Rows = tuple[Row, ...]

_COLUMNS_SQL = """
SELECT a.attname, coalesce(d.name, format_type(a.atttypid, a.atttypmod))
FROM pg_attribute a
LEFT JOIN LATERAL (
    WITH RECURSIVE below (oid, typtype, typbasetype, typtypmod) AS (
        SELECT t.oid, t.typtype, t.typbasetype, t.typtypmod FROM pg_type t WHERE t.oid = a.atttypid
        UNION ALL
        SELECT t.oid, t.typtype, t.typbasetype, t.typtypmod
        FROM below b JOIN pg_type t ON t.oid = b.typbasetype WHERE b.typtype = 'd')
    SELECT format_type(b.oid, b.typtypmod) AS name FROM below b
    WHERE b.typtype <> 'd' AND b.oid <> a.atttypid) d ON true
WHERE a.attrelid = %s::regclass AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''
ORDER BY a.attnum
"""
_LABELS_SQL = """
SELECT e.enumlabel FROM pg_enum e WHERE e.enumtypid = %s::regtype ORDER BY e.enumsortorder LIMIT 8
"""


@dataclass(slots=True)
class PostgresArena:
    """See `core.remedies.counterexamples.model.Arena`."""

    connection: Connection
    _columns: dict[TableName, list[str]] = field(default_factory=dict)
    _begun: bool = False

    def typical(
        self, table: TableName, constants: Mapping[str, Sequence[str]]
    ) -> Mapping[str, Sequence[str]]:
        """Values of each column's type, those beside the constants first."""
        found: dict[str, list[str]] = {}
        rows = self.connection.execute(_COLUMNS_SQL, (_named(table).as_string(None),)).fetchall()
        for column, type_name in rows:
            name, type_ = str(column), str(type_name)
            near = [n for v in constants.get(name, ()) for n in self._beside(type_, v)]
            values = [*near, *(typical_values(type_) or self._labels(type_))]
            found[name] = [v for v in dict.fromkeys(values) if self._is_of(type_, v)]
        self._columns[table] = list(found)
        return found

    @contextlib.contextmanager
    def filled(
        self, database: SmallDatabase, *, backwards: bool = False
    ) -> Iterator[_FilledTables]:
        """Put the rows in, and take them out again."""
        if not self._begun:
            # What shadows the server's own names is not for our own questions, which came before.
            self.connection.look_as_the_user()
            self.connection.execute(f"SAVEPOINT {_POINT}")
            self._begun = True
        given = {t: rows[::-1] if backwards else rows for t, rows in database.rows.items()}
        try:
            kept = self._insert_all(given)
            if database.time_zone:
                self.connection.execute(
                    "SELECT pg_catalog.set_config('timezone', %s, true)", (database.time_zone,)
                )
            there = {t: rows[::-1] if backwards else rows for t, rows in kept.items()}
            yield _FilledTables(self.connection, SmallDatabase(there, database.time_zone))
        finally:
            self.connection.execute(f"ROLLBACK TO SAVEPOINT {_POINT}")

    def _insert_all(self, given: Mapping[TableName, _Rows]) -> dict[TableName, _Rows]:
        """Insert into all tables; what the schema took of it."""
        try:
            for table, rows in given.items():
                if rows and self._columns[table]:
                    self._send(table, rows)
            return {table: rows if self._columns[table] else () for table, rows in given.items()}
        except psycopg.Error:
            # It goes on from the beginning, with care: that takes three times as many questions.
            self.connection.execute(f"ROLLBACK TO SAVEPOINT {_POINT}")
            return {table: self._insert(table, rows) for table, rows in given.items()}

    def _insert(self, table: TableName, rows: Sequence[Row]) -> _Rows:
        """Insert rows together; one after the other when the schema refuses any of them."""
        columns = self._columns[table]
        if not rows or not columns:
            return ()
        try:
            with _point(self.connection):
                self._send(table, rows)
            return tuple(rows)
        except psycopg.Error:
            kept = []
            for row in rows:
                with contextlib.suppress(psycopg.Error), _point(self.connection):
                    self._send(table, [row])
                    kept.append(row)
            return tuple(kept)

    def _send(self, table: TableName, rows: Sequence[Row]) -> None:
        columns = self._columns[table]
        places = iter(range(1, len(rows) * len(columns) + 1))
        lists = [f"({', '.join(f'${next(places)}' for _ in columns)})" for _ in rows]
        text = sql.SQL("INSERT INTO {} ({}) OVERRIDING SYSTEM VALUE VALUES {}").format(
            _named(table),
            sql.SQL(", ").join(map(sql.Identifier, columns)),
            sql.SQL(", ".join(lists)),
        )
        with UserCursor(self.connection) as cursor:
            cursor.execute(text, [row.get(column) for row in rows for column in columns])

    def _labels(self, type_name: str) -> list[str]:
        with contextlib.suppress(psycopg.Error), _point(self.connection):
            rows = self.connection.execute(_LABELS_SQL, (type_name,)).fetchall()
            return [str(row[0]) for row in rows]
        return []

    def _beside(self, type_name: str, value: str) -> list[str]:
        """A value of a column's type, and those just beside it; none when it is of another."""
        found = []
        for expression in beside(type_name):
            with contextlib.suppress(psycopg.Error), _point(self.connection):
                type_ = type_name.replace("%", "%%")
                text = f"SELECT ({expression.format(f'(%s::{type_})')})::{type_}::text"
                row = self.connection.execute(text.encode(), (value,)).fetchone()
                found += [str(row[0])] if row and row[0] is not None else []
        return found

    def _is_of(self, type_name: str, value: str) -> bool:
        with contextlib.suppress(psycopg.Error), _point(self.connection):
            type_ = type_name.replace("%", "%%")
            self.connection.execute(f"SELECT %s::{type_}".encode(), (value,))
            return True
        return False


@dataclass(frozen=True, slots=True)
class _FilledTables:
    connection: Connection
    database: SmallDatabase

    def ask(self, statement: Statement) -> Answer:
        """Run a statement; a refusal is an answer, too, and the last one."""
        try:
            with UserCursor(self.connection) as cursor:
                cursor.execute(statement.sql.encode(), statement.values or None)
                return Answer(tuple(texts_of(cursor, MOST_ANSWERS)))
        except psycopg.Error as error:
            said = error.diag.message_primary or str(error)
            return Answer(error=" ".join(said.split()))


@contextlib.contextmanager
def _point(connection: Connection) -> Iterator[None]:
    """A point to go back to when the server refuses what comes."""
    connection.execute(f"SAVEPOINT {_ROW}")
    try:
        yield
    except BaseException:
        connection.execute(f"ROLLBACK TO SAVEPOINT {_ROW}")
        raise
    finally:
        connection.execute(f"RELEASE SAVEPOINT {_ROW}")


@contextlib.contextmanager
def arena_in(connection: Connection, tables: Sequence[TableName]) -> Iterator[PostgresArena]:
    """An arena over these tables on a connection of the hollow's owner, until the end.

    Raises:
        HumbleError: a table cannot be made again.
    """
    with translated():
        connection.execute("BEGIN READ WRITE")
    try:
        with translated():
            connection.execute(f"SET LOCAL statement_timeout = {STATEMENT_MS}")
            for place, table in enumerate(tables):
                _emptied(connection, table, f"{_ASIDE}{place}")
        yield PostgresArena(connection)
    finally:
        with contextlib.suppress(psycopg.Error):
            connection.rollback()


def _emptied(connection: Connection, table: TableName, name: str) -> None:
    """Put a table aside under a name, and an empty one like it in its place.

    Checks that are NOT VALID need not hold for the target's rows: it does without them.
    """
    aside = sql.Identifier(table.schema, name)
    connection.execute(
        sql.SQL("ALTER TABLE {} RENAME TO {}").format(_named(table), sql.Identifier(name))
    )
    connection.execute(
        sql.SQL("CREATE TABLE {} (LIKE {} INCLUDING ALL EXCLUDING STATISTICS)").format(
            _named(table), aside
        )
    )
    unproven = connection.execute(
        "SELECT conname FROM pg_constraint WHERE conrelid = %s::regclass AND contype = 'c' "
        "AND NOT convalidated",
        (aside.as_string(None),),
    ).fetchall()
    for (check,) in unproven:
        connection.execute(
            sql.SQL("ALTER TABLE {} DROP CONSTRAINT {}").format(
                _named(table), sql.Identifier(str(check))
            )
        )


def _named(table: TableName) -> sql.Identifier:
    return sql.Identifier(table.schema, table.name)
