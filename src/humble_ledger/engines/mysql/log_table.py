"""The slow log as a table (`log_output = TABLE`), read as if it were the file.

Its rows are written down in the file's form, in the order in which the server wrote them, so that
positions, recognition and counting are those of a file: rows come behind, and a table that was
emptied begins otherwise.
"""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from datetime import timedelta
from typing import Any

from humble_ledger.capture.places import ServedLog
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.errors import StatementRejected, WrongUsage

NAME = "mysql.slow_log"
# In seconds since 1970, whatever the session's time zone. The table has no key: rows stay in order.
_ROWS = (
    "SELECT UNIX_TIMESTAMP(start_time), user_host, query_time, lock_time, rows_sent, "
    "rows_examined, db, thread_id, sql_text FROM mysql.slow_log"
)


def served_logs(connection: Connection) -> Sequence[ServedLog]:
    """The slow log, if the server writes it into its table.

    Raises:
        WrongUsage: it does not.
        StatementRejected: this user may not read it.
    """
    output = str(connection.one("SELECT @@GLOBAL.log_output")).upper()
    if "TABLE" not in output:
        file = connection.one("SELECT @@GLOBAL.slow_query_log_file")
        raise WrongUsage(
            f"This server writes its slow log into a file ({file}), which it does not hand out.",
            "Name the file:  humble capture log FILE    Or let it write a table:  "
            "SET GLOBAL log_output = 'FILE,TABLE'",
        )
    try:
        cursor = connection.stream(_ROWS)
    except StatementRejected as error:
        raise StatementRejected(
            f"The table {NAME} cannot be read by this user: {error.message}",
            f"An administrator lets it:  GRANT SELECT ON {NAME} TO …",
        ) from error
    copy = tempfile.TemporaryFile(prefix="humble-log-")  # noqa: SIM115 - gone with the last reader
    latest = 0.0
    try:
        while rows := connection.fetched(cursor):
            for row in rows:
                copy.write(_entry(row, began=connection.member.mariadb))
                latest = max(latest, float(row[0] or 0))
    finally:
        connection.finished(cursor)
    size = copy.tell()

    def read(offset: int, length: int) -> bytes:
        copy.seek(offset)
        return copy.read(length)

    return [ServedLog(NAME, size, latest, read)] if size else []


def _entry(row: Sequence[Any], *, began: bool) -> bytes:
    """One row as the file has it, with the moment at which the statement began.

    MariaDB keeps that moment; what MySQL calls the time of the start is that of the end (found on
    9.7).
    """
    moment, who, took, locked, sent, examined, database, thread, text = row
    since = float(moment or 0) - (0.0 if began else _seconds(took))
    words = text if isinstance(text, bytes) else str(text or "").encode()
    head = (
        f"# User@Host: {_line(who)}\n"
        f"# Thread_id: {thread}  Schema: {_line(database)}\n"
        f"# Query_time: {_seconds(took):.6f}  Lock_time: {_seconds(locked):.6f}  "
        f"Rows_sent: {sent}  Rows_examined: {examined}\n"
    )
    if words.startswith(b"administrator command"):
        return head.encode() + b"# " + words.partition(b"\n")[0] + b";\n"
    return head.encode() + f"SET timestamp={since:.6f};\n".encode() + words.rstrip(b"; \n") + b";\n"


def _line(value: Any) -> str:
    return " ".join((value.decode() if isinstance(value, bytes) else str(value or "")).split())


def _seconds(value: Any) -> float:
    """A duration, which drivers give as a difference or as text ("00:00:01.5")."""
    if isinstance(value, timedelta):
        return value.total_seconds()
    hours, minutes, seconds = str(value or "0:0:0").split(":")
    return int(hours) * 3600 + int(minutes) * 60 + float(seconds)
