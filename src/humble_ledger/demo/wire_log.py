"""A slow log over the wire, for a server whose log file we cannot read.

A superuser may ask the server to send its log messages to the client too. They are the
server's own words and times; only the line's head is written by us.
"""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import psycopg
from psycopg.rows import TupleRow

from humble_ledger.errors import RefusedForSafety


class WireLog:
    """Writes what the server logs of a connection into a file, as `scenario.LOG_PREFIX` would."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def listen(self, connection: psycopg.Connection[TupleRow]) -> None:
        """Switch the messages on and write them from now on.

        Raises:
            RefusedForSafety: the user may not switch them on.
        """
        info = connection.info
        who = f"{info.user}@{info.dbname}/{info.parameter_status('application_name')}"

        def write(said: psycopg.errors.Diagnostic) -> None:
            stamp = datetime.now(UTC).strftime("%Y-%m-%d %H:%M:%S.%f")[:-3]
            head = f"{stamp} UTC [{info.backend_pid}] {who}"
            with self._path.open("a", encoding="utf-8") as file:
                file.write(f"{head} LOG:  {_continued(said.message_primary)}\n")
                if said.message_detail:
                    file.write(f"{head} DETAIL:  {_continued(said.message_detail)}\n")

        try:
            connection.execute("SET log_min_duration_statement = 0")
            connection.execute("SET client_min_messages = 'log'")
        except psycopg.errors.InsufficientPrivilege as error:
            raise RefusedForSafety(
                "The user of the target may not switch the slow log on for its own session.",
                "Use a superuser, or grant:  "
                "GRANT SET ON PARAMETER log_min_duration_statement TO …",
            ) from error
        connection.add_notice_handler(write)


def _continued(text: str | None) -> str:
    return (text or "").replace("\n", "\n\t")
