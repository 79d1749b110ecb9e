"""Statistics of single columns: the statements that gather them, and those that let them go again.

They last, and are for every session. So a trial gathers them only where there are none, which
afterwards can be brought about again, and out of the sight of replicas.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Sequence
from dataclasses import dataclass

from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.naming import quoted
from humble_ledger.errors import HumbleError, LockNotGranted, RefusedForSafety, StatementRejected

_NAME = r"(?:`(?:[^`]|``)+`|[A-Za-z_$][\w$]*)"
_NAMES = rf"{_NAME}(?:\s*,\s*{_NAME})*"
_EXACTLY = r"SET\s+STATEMENT\s+histogram_type\s*=\s*'JSON_HB'\s+FOR\s+"
_GATHERS = re.compile(
    rf"(?P<exactly>{_EXACTLY})?ANALYZE\s+TABLE\s+(?P<table>{_NAME})\s+(?:"
    rf"PERSISTENT\s+FOR\s+COLUMNS\s*\(\s*(?P<persistent>{_NAMES})\s*\)\s*INDEXES\s*\(\s*\)"
    rf"|UPDATE\s+HISTOGRAM\s+ON\s+(?P<histogram>{_NAMES})(?P<buckets>\s+WITH\s+\d+\s+BUCKETS)?)",
    re.IGNORECASE,
)
_ONE_NAME = re.compile(_NAME)
_LEFT = re.compile(r"statistics of `((?:[^`]|``)+)`\.`((?:[^`]|``)+)`")
_LONG_MS = 2_000  # a statement that runs longer keeps who comes after a flush waiting
_NOTHING_SAID_AGAINST = ("status", "note", "info", "warning")
_OF_TABLES = "DELETE FROM mysql.table_stats"
_EXACT, _NO_COPIES = "SET STATEMENT histogram_type = 'JSON_HB' FOR ", "NO_WRITE_TO_BINLOG "


@dataclass(frozen=True, slots=True)
class ColumnStatistics:
    """Statistics of some columns of a table; ``exactly``: of the kind that tells texts apart."""

    table: str
    columns: tuple[str, ...]
    mariadb: bool
    exactly: bool = False
    buckets: str = ""

    def gathered(self, *, told_replicas: bool = True) -> str:
        """The statement that gathers them."""
        names = ", ".join(quoted(each) for each in self.columns)
        begun = self._begun(told_replicas=told_replicas)
        if self.mariadb:
            exact = _EXACT if self.exactly else ""
            return f"{exact}{begun} PERSISTENT FOR COLUMNS ({names}) INDEXES ()"
        return f"{begun} UPDATE HISTOGRAM ON {names}{self.buckets}"

    def undone(self, *, told_replicas: bool = True) -> tuple[str, ...]:
        """The statements that let them go; what MariaDB has read of them it keeps until a flush.

        With them go the rows that it counted then, and would believe for ever.
        """
        if not self.mariadb:
            names = ", ".join(quoted(each) for each in self.columns)
            begun = self._begun(told_replicas=told_replicas)
            return (f"{begun} DROP HISTOGRAM ON {names}",)
        listed = ", ".join(_text(each) for each in self.columns)
        of_table = f"db_name = DATABASE() AND table_name = {_text(self.table)}"
        return (
            f"DELETE FROM mysql.column_stats WHERE {of_table} AND column_name IN ({listed})",  # noqa: S608 - names in quotes
            f"{_OF_TABLES} WHERE {of_table}",
            f"FLUSH {'' if told_replicas else _NO_COPIES}TABLES {quoted(self.table)}",
        )

    def _begun(self, *, told_replicas: bool) -> str:
        return f"ANALYZE {'' if told_replicas else _NO_COPIES}TABLE {quoted(self.table)}"

    @property
    def names(self) -> tuple[str, ...]:
        """Each of them as the ledger knows it while a trial has made it."""
        return tuple(f"statistics of {quoted(self.table)}.{quoted(c)}" for c in self.columns)


def statistics_in(sql: str) -> ColumnStatistics | None:
    """What a statement gathers; None for any other statement."""
    found = _GATHERS.fullmatch(sql.strip().rstrip(";").rstrip())
    if found is None:
        return None
    columns = found["persistent"] or found["histogram"]
    return ColumnStatistics(
        _bare(found["table"]),
        tuple(_bare(each) for each in _ONE_NAME.findall(columns)),
        mariadb=found["persistent"] is not None,
        exactly=found["exactly"] is not None,
        buckets="".join(f" {word}" for word in (found["buckets"] or "").split()),
    )


def named(text: str, *, mariadb: bool) -> ColumnStatistics | None:
    """Statistics of a column by what the ledger calls them."""
    found = _LEFT.fullmatch(text)
    if found is None:
        return None
    table, column = (each.replace("``", "`") for each in found.groups())
    return ColumnStatistics(table, (column,), mariadb=mariadb)


def known_columns(connection: Connection, table: str) -> frozenset[str]:
    """The columns of a table, in small letters, of which there are statistics.

    Raises:
        StatementRejected: we may not see which.
    """
    if connection.member.mariadb:
        sql = (
            "SELECT column_name FROM mysql.column_stats "
            "WHERE db_name = DATABASE() AND table_name = %s"
        )
    else:
        sql = (
            "SELECT COLUMN_NAME FROM information_schema.COLUMN_STATISTICS "
            "WHERE SCHEMA_NAME = DATABASE() AND TABLE_NAME = %s"
        )
    return frozenset(str(name).lower() for (name,) in connection.asked(sql, table))


def require_gatherable(connection: Connection, wanted: Sequence[ColumnStatistics]) -> None:
    """Make sure that they can be gathered, and let go again, and that nobody waits for it.

    Raises:
        RefusedForSafety: there are some already, we may not remove them, or replicas would be told.
        LockNotGranted: a statement runs for long, behind which others would queue.
    """
    for each in wanted:
        if each.mariadb is not connection.member.mariadb:
            raise RefusedForSafety(
                f"{connection.member.name} has no such statement: {each.gathered()}"
            )
        there = known_columns(connection, each.table) & {name.lower() for name in each.columns}
        if there:
            raise RefusedForSafety(
                f"There are statistics of {each.table}.{min(there)} already, which could not be "
                "brought back after a trial.",
                "Try it on a copy of your own: name one with --target.",
            )
        if connection.member.mariadb:
            _require_removable(connection, each)
    _require_unseen_by_replicas(connection)
    _require_nothing_long(connection, wanted)


def gather(connection: Connection, wanted: ColumnStatistics) -> None:
    """Gather them, for every session.

    Raises:
        StatementRejected: the server keeps none of such a column.
    """
    _said(connection, wanted.gathered(told_replicas=False))


def let_go(connection: Connection, gathered: ColumnStatistics) -> None:
    """Remove those that are there; nothing where they are gone."""
    there = known_columns(connection, gathered.table)
    columns = tuple(each for each in gathered.columns if each.lower() in there)
    if not columns:
        return
    _unlogged(connection)
    left = ColumnStatistics(gathered.table, columns, mariadb=gathered.mariadb)
    others = gathered.mariadb and (there - {each.lower() for each in columns})
    for sql in left.undone(told_replicas=False):
        if not (others and _OF_TABLES in sql):  # with these its count of rows goes on
            _said(connection, sql)


def _said(connection: Connection, sql: str) -> None:
    """Run a statement that tells in rows what went wrong, and not by failing."""
    for row in connection.rows(sql):
        if len(row) == 4 and str(row[2]).lower() not in _NOTHING_SAID_AGAINST:
            raise StatementRejected(f"The server rejects the statement: {row[3]}")


def _require_removable(connection: Connection, wanted: ColumnStatistics) -> None:
    try:
        for sql in wanted.undone()[:2]:
            connection.do(f"{sql} AND 1 = 0")
    except HumbleError as error:
        raise RefusedForSafety(
            "Statistics that a trial gathers could not be removed after it: this user may not "
            "delete from mysql.column_stats and mysql.table_stats.",
            "Grant DELETE and SELECT on them, or name a copy of your own with --target.",
        ) from error


def _require_unseen_by_replicas(connection: Connection) -> None:
    """Rows of the server's own tables that replicas lack would end their replication."""
    if not int(connection.one("SELECT @@GLOBAL.log_bin") or 0):
        return
    try:
        connection.do("SET SESSION sql_log_bin = 0")
    except HumbleError as error:
        raise RefusedForSafety(
            "The target writes a binary log, and this user may not keep statistics that are tried "
            "out of it: replicas would get them, too.",
            "Name a copy of your own with --target, or a user who may set sql_log_bin.",
        ) from error


def _unlogged(connection: Connection) -> None:
    with contextlib.suppress(HumbleError):  # where it may not be set, nothing was gathered
        connection.do("SET SESSION sql_log_bin = 0")


def _require_nothing_long(connection: Connection, wanted: Sequence[ColumnStatistics]) -> None:
    exact = "TIME_MS" if connection.member.mariadb else "TIME * 1000"
    rows = connection.asked(
        f"SELECT ID, {exact}, INFO FROM information_schema.PROCESSLIST "  # noqa: S608 - ours
        "WHERE COMMAND IN ('Query', 'Execute') AND ID <> CONNECTION_ID() AND DB = DATABASE()"
    )
    tables = [each.table.lower() for each in wanted]
    for number, taken, text in rows:
        names = str(text or "").lower()
        if float(taken or 0) > _LONG_MS and any(table in names for table in tables):
            raise LockNotGranted(
                f"Session {number} has been reading a table for {float(taken) / 1000:.0f} s whose "
                "statistics would be gathered: whoever came to the table then would wait for it.",
                "Try again when its statement has ended.",
            )


def _bare(name: str) -> str:
    return name[1:-1].replace("``", "`") if name.startswith("`") else name


def _text(name: str) -> str:
    escaped = name.replace("\\", "\\\\").replace("'", "''")
    return f"'{escaped}'"
