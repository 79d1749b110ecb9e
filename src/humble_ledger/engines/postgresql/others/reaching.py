"""A connection to such a server: time-outs and reading alone, as far as it lets us ask for them."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import Any

import psycopg
from psycopg.rows import TupleRow

from humble_ledger.engines.contract import APPLICATION_NAME, Limits
from humble_ledger.engines.postgresql.connection import CONNECT_TIMEOUT_S, parse, place_of
from humble_ledger.engines.postgresql.faults import translated, unreachable
from humble_ledger.engines.postgresql.one_statement import OwnCursor, UserCursor
from humble_ledger.errors import RefusedForSafety

Rows = list[tuple[Any, ...]]


class Reached:
    """One connection; ``limited`` tells that the server took our time-out."""

    def __init__(self, url: str, limits: Limits) -> None:
        parts = parse(url)
        try:
            self.connection: psycopg.Connection[TupleRow] = psycopg.Connection.connect(
                url,
                autocommit=True,
                prepare_threshold=None,
                application_name=APPLICATION_NAME,
                connect_timeout=int(parts.get("connect_timeout") or CONNECT_TIMEOUT_S),
                cursor_factory=OwnCursor,
            )
        except psycopg.OperationalError as error:
            raise unreachable(place_of(url), error, [str(parts.get("password") or "")]) from None
        self.limited = self.does(f"SET statement_timeout = {limits.statement_ms}")
        self.does("SET default_transaction_read_only = on")

    def does(self, command: str) -> bool:
        """Whether the server takes a command of ours."""
        try:
            self.connection.execute(command.encode())
        except psycopg.Error:
            return False
        return True

    def ask(self, question: str, values: tuple[object, ...] | None = None) -> Rows | None:
        """The rows of a question of ours; None where the server does not know what it means."""
        try:
            return list(self.connection.execute(question.encode(), values).fetchall())
        except (psycopg.Error, UnicodeDecodeError):
            return None

    @contextlib.contextmanager
    def reading(self) -> Iterator[None]:
        """A transaction that only reads, which the server itself says of it.

        Raises:
            RefusedForSafety: it has no such transactions, so that nothing is run.
        """
        with self.planning() as begun:
            said = self.ask("SHOW transaction_read_only") if begun else None
            if not said or str(said[0][0]).lower() not in ("on", "true"):
                raise RefusedForSafety(
                    "This server does not say that a transaction only reads, so nothing is run.",
                    "Read the estimated plan: leave --measure out.",
                )
            yield

    @contextlib.contextmanager
    def planning(self) -> Iterator[bool]:
        """A transaction for an EXPLAIN, which runs nothing; yields whether it was begun as one
        that only reads, which not every such server has."""
        begun = self.does("BEGIN READ ONLY") or self.does("BEGIN TRANSACTION READ ONLY")
        try:
            yield begun
        finally:
            if begun:
                with contextlib.suppress(psycopg.Error):
                    self.connection.execute(b"ROLLBACK")

    def users(self, text: str, sql: str, values: tuple[Any, ...] | None) -> Rows:
        """The rows of a user's statement, or of an EXPLAIN of it."""
        with translated(sql, behind=len(text) - len(sql)), UserCursor(self.connection) as cursor:
            cursor.execute(text.encode(), values or None)
            return list(cursor.fetchall()) if cursor.description is not None else []

    def close(self) -> None:
        """End the session."""
        self.connection.close()
