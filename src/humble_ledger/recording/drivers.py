"""Connections of drivers (PEP 249) whose statements are recorded.

Some drivers run a statement while its rows are fetched: their time is that of running and
fetching, and a statement is written down when its rows are at an end, or nobody asks for more.
"""

from __future__ import annotations

import os
import sqlite3
import sys
from collections.abc import Callable, Iterator
from itertools import chain, islice
from time import perf_counter, time
from types import CodeType
from typing import Any

from humble_ledger.recording.recorder import Recorder, client_keys, told

_LAZY = ("sqlite3", "apsw", "pysqlite3", "sqlcipher3")
_DOUBLE_QUOTES = ("pymysql", "MySQLdb", "mysql", "mariadb")


# Frames behind `_send` that are not the application's: `execute`, and of an engine of SQLAlchemy
# three of its own. An application may also take a cursor from the engine's raw connection.
_BETWEEN, _BETWEEN_ENGINE = 1, 5
_ENGINES_FILE = os.path.join("sqlalchemy", "engine", "default.py")
_between: dict[CodeType, int] = {}

# A statement that was sent, and may still be running while its rows are fetched: a list, as it
# is made for every statement.
_Sending = list[Any]
_MS, _ROWS, _ERROR = 4, 5, 6


class _Desk:
    """What a recorded connection and its cursors share."""

    def __init__(self, connection: Any, recorder: Recorder) -> None:
        # One of ours is a class of that driver's, too.
        driver = (
            sqlite3.Connection if isinstance(connection, sqlite3.Connection) else type(connection)
        )
        module = driver.__module__.partition(".")[0].lstrip("_")
        self.recorder = recorder
        self.lazy = module in _LAZY
        self.double_quotes = module in _DOUBLE_QUOTES
        style = getattr(sys.modules.get(module), "paramstyle", "format")
        self.style = "" if style in ("numeric", "numeric_dollar") else style
        try:
            self.client = client_keys(**_who(connection, module))
        except Exception:
            self.client = ""

    def saw(self, sending: _Sending) -> None:
        """Write down a statement whose rows are at an end."""
        statement, parameters, place, begun_s, ms, rows, error = sending
        self.recorder.saw(
            statement, parameters, begun_s, ms, self.style, rows, self.client, place, error,
            self.double_quotes,
        )  # fmt: skip


def _who(connection: Any, module: str) -> dict[str, Any]:
    """The database, the user and the session, as far as a driver tells."""
    info = getattr(connection, "info", None)
    if module == "psycopg" and info is not None:
        return {"database": info.dbname, "user": info.user, "session": info.backend_pid}
    if isinstance(connection, sqlite3.Connection):
        # The class's own cursor: the connection's may be one of ours, and ask for this again.
        asked = sqlite3.Connection.cursor(connection).execute("PRAGMA database_list")
        named = next((row[2] for row in asked), "")
        return {"database": named, "session": f"{id(connection):x}"}
    return {"session": f"{id(connection):x}"}


class RecordedCursor:
    """A cursor; see `RecordedConnection`."""

    def __init__(self, cursor: Any, desk: _Desk) -> None:
        self.__dict__.update(_cursor=cursor, _desk=desk, _open=None)

    def execute(self, statement: Any, *arguments: Any, **named: Any) -> Any:
        """As the driver's own."""
        return self._send(self._cursor.execute, statement, arguments, named)

    def executemany(self, statement: Any, sets: Any, *arguments: Any, **named: Any) -> Any:
        """As the driver's own; it is one run, with the values of the first set."""
        if isinstance(sets, list | tuple):
            first = sets[0] if sets else None
        else:  # one by one, as the driver takes them: there may be more than memory holds
            rest = iter(sets)
            begun = list(islice(rest, 1))
            first, sets = next(iter(begun), None), chain(begun, rest)
        return self._send(self._cursor.executemany, statement, (sets, *arguments), named, first)

    def fetchone(self) -> Any:
        """As the driver's own."""
        row = self._fetch(self._cursor.fetchone)
        if self._open is not None:
            self._count(0 if row is None else 1, row is None)
        return row

    def fetchmany(self, *arguments: Any, **named: Any) -> Any:
        """As the driver's own."""
        rows = self._fetch(lambda: self._cursor.fetchmany(*arguments, **named))
        if self._open is not None:
            self._count(len(rows), not rows)
        return rows

    def fetchall(self) -> Any:
        """As the driver's own."""
        rows = self._fetch(self._cursor.fetchall)
        if self._open is not None:
            self._count(len(rows), True)
        return rows

    def __iter__(self) -> Iterator[Any]:
        return self

    def __next__(self) -> Any:
        row = self._fetch(self._cursor.__next__)
        if self._open is not None:
            self._count(1, False)
        return row

    def close(self, *arguments: Any) -> Any:
        """As the driver's own."""
        self._over()
        return self._cursor.close(*arguments)

    def __enter__(self) -> Any:
        self._cursor.__enter__()
        return self

    def __exit__(self, *error: Any) -> Any:
        self._over()
        return self._cursor.__exit__(*error)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._cursor, name)

    def __setattr__(self, name: str, value: Any) -> None:
        setattr(self._cursor, name, value)

    def __del__(self) -> None:
        if self.__dict__.get("_open") is not None:
            self._over()

    def _send(self, act: Any, statement: Any, arguments: Any, named: Any, first: Any = None) -> Any:
        if self._open is not None:
            self._over()
        desk = self._desk
        parameters = first if first is not None else _given(arguments, named)
        sending: _Sending = [statement, parameters, desk.recorder.place(), time(), 0.0, None, ""]
        self.__dict__["_open"] = sending
        begun = perf_counter()
        try:
            answer = act(statement, *arguments, **named)
        except BaseException as error:
            sending[_MS] = (perf_counter() - begun) * 1000.0
            sending[_ERROR] = told(error)
            self._over()
            raise
        sending[_MS] = (perf_counter() - begun) * 1000.0
        if not desk.lazy or self._cursor.description is None:
            sending[_ROWS] = _row_count(self._cursor)
            self._over()
        return self if answer is self._cursor else answer

    def _fetch(self, act: Callable[[], Any]) -> Any:
        sending = self._open
        if sending is None:
            return act()
        begun = perf_counter()
        try:
            rows = act()
        except BaseException as error:
            sending[_MS] += (perf_counter() - begun) * 1000.0
            if not isinstance(error, StopIteration):
                sending[_ERROR] = told(error)
            elif sending[_ROWS] is None:
                sending[_ROWS] = 0
            self._over()
            raise
        sending[_MS] += (perf_counter() - begun) * 1000.0
        return rows

    def _count(self, rows: int, ended: bool) -> None:
        sending = self._open
        sending[_ROWS] = (sending[_ROWS] or 0) + rows
        if ended:
            self._over()

    def _over(self) -> None:
        sending, desk = self._open, self._desk
        if sending is not None:
            self.__dict__["_open"] = None
            desk.saw(sending)


class RecordedConnection:
    """A driver's connection, used as that itself, whose statements are recorded."""

    def __init__(self, connection: Any, recorder: Recorder) -> None:
        self.__dict__.update(_connection=connection, _desk=_Desk(connection, recorder))

    def cursor(self, *arguments: Any, **named: Any) -> RecordedCursor:
        """As the driver's own."""
        return RecordedCursor(self._connection.cursor(*arguments, **named), self._desk)

    def execute(self, statement: Any, *arguments: Any, **named: Any) -> Any:
        """As those drivers have it that do without a cursor."""
        return self.cursor().execute(statement, *arguments, **named)

    def executemany(self, statement: Any, *arguments: Any, **named: Any) -> Any:
        """As those drivers have it that do without a cursor."""
        return self.cursor().executemany(statement, *arguments, **named)

    def __enter__(self) -> Any:
        self._connection.__enter__()
        return self

    def __exit__(self, *error: Any) -> Any:
        return self._connection.__exit__(*error)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._connection, name)

    def __setattr__(self, name: str, value: Any) -> None:
        setattr(self._connection, name, value)


class RecordedSqliteCursor(sqlite3.Cursor):
    """A cursor of sqlite3 itself, which records; all that is not named here is the driver's own.

    A framework asks a cursor for many things around each statement: these cost nothing more here.
    """

    _desk: _Desk | None = None
    _open: _Sending | None = None

    def execute(self, statement: Any, *arguments: Any) -> Any:
        """As the driver's own."""
        parameters = arguments[0] if arguments else None
        return self._send(super().execute, statement, arguments, parameters)

    def executemany(self, statement: Any, sets: Any) -> Any:
        """As the driver's own; it is one run, with the values of the first set."""
        first = sets[0] if isinstance(sets, list | tuple) and sets else None
        return self._send(super().executemany, statement, (sets,), first)

    def fetchone(self) -> Any:
        """As the driver's own."""
        sending = self._open
        if sending is None:
            return super().fetchone()
        begun = perf_counter()
        try:
            row = super().fetchone()
        except BaseException as error:
            self._broken(begun, error)
            raise
        self._fetched(sending, begun, 0 if row is None else 1, row is None)
        return row

    def fetchmany(self, *arguments: Any, **named: Any) -> Any:
        """As the driver's own."""
        sending = self._open
        if sending is None:
            return super().fetchmany(*arguments, **named)
        begun = perf_counter()
        try:
            rows = super().fetchmany(*arguments, **named)
        except BaseException as error:
            self._broken(begun, error)
            raise
        self._fetched(sending, begun, len(rows), not rows)
        return rows

    def fetchall(self) -> Any:
        """As the driver's own."""
        sending = self._open
        if sending is None:
            return super().fetchall()
        begun = perf_counter()
        try:
            rows = super().fetchall()
        except BaseException as error:
            self._broken(begun, error)
            raise
        self._fetched(sending, begun, len(rows), True)
        return rows

    def __next__(self) -> Any:
        sending = self._open
        if sending is None:
            return super().__next__()
        begun = perf_counter()
        try:
            row = super().__next__()
        except StopIteration:
            self._fetched(sending, begun, 0, True)
            raise
        except BaseException as error:
            self._broken(begun, error)
            raise
        self._fetched(sending, begun, 1, False)
        return row

    def close(self) -> None:
        """As the driver's own."""
        self._over()
        super().close()

    def __del__(self) -> None:
        if self._open is not None:
            self._over()

    def _send(self, act: Any, statement: Any, arguments: Any, parameters: Any) -> Any:
        if self._open is not None:
            self._over()
        desk = self._desk
        if desk is None:
            return act(statement, *arguments)
        sending: _Sending = [
            statement,
            parameters,
            desk.recorder.place(_BETWEEN),
            time(),
            0.0,
            None,
            "",
        ]
        self._open = sending
        begun = perf_counter()
        try:
            act(statement, *arguments)
        except BaseException as error:
            self._broken(begun, error)
            raise
        sending[_MS] = (perf_counter() - begun) * 1000.0
        if self.description is None:
            sending[_ROWS] = _row_count(self)
            self._over()
        return self

    def _fetched(self, sending: _Sending, begun: float, rows: int, ended: bool) -> None:
        sending[_MS] += (perf_counter() - begun) * 1000.0
        sending[_ROWS] = (sending[_ROWS] or 0) + rows
        if ended:
            self._over()

    def _broken(self, begun: float, error: BaseException) -> None:
        sending = self._open
        if sending is not None:
            sending[_MS] += (perf_counter() - begun) * 1000.0
            sending[_ERROR] = told(error)
            self._over()

    def _over(self) -> None:
        sending, desk = self._open, self._desk
        if sending is not None and desk is not None:
            self._open = None
            desk.saw(sending)


def sqlite_factory(recorder: Recorder) -> type[sqlite3.Connection]:
    """A class for ``sqlite3.connect(..., factory=...)`` whose connections are recorded."""

    class Recorded(sqlite3.Connection):
        _desk: _Desk | None = None

        def cursor(self, factory: Any = RecordedSqliteCursor) -> Any:
            made = super().cursor(factory)
            if self._desk is None:
                self._desk = _Desk(self, recorder)
            if isinstance(made, RecordedSqliteCursor):
                made._desk = self._desk
                return made
            return RecordedCursor(made, self._desk)  # of a class of the application's own

    return Recorded


def _given(arguments: Any, named: Any) -> Any:
    if arguments:
        return arguments[0]
    return next((named[key] for key in ("params", "parameters", "args") if key in named), None)


def _row_count(cursor: Any) -> int | None:
    count = getattr(cursor, "rowcount", -1)
    return count if isinstance(count, int) and count >= 0 else None
