"""The driver's exceptions become ours here, once."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager

import psycopg
from psycopg import errors as pg

from humble_ledger.core.statements.tokens import line_and_column
from humble_ledger.errors import (
    HumbleError,
    LockNotGranted,
    RefusedForSafety,
    StatementRejected,
    StatementTimedOut,
    TargetUnreachable,
)

# A statement with $1 and no value for it: the connection is as good as before.
_PROTOCOL_VIOLATION = "08P01"
# Undefined object, table, column, function, schema.
_NOT_THERE = frozenset(("42704", "42P01", "42703", "42883", "3F000"))
# What the client library says in words only, and what helps.
_CONNECTION_HINTS = (
    (
        "password authentication failed",
        "Check the password: in ~/.pgpass, the variable PGPASSWORD, or a service file.",
    ),
    (
        "no password supplied",
        "Give the password in ~/.pgpass, in the variable PGPASSWORD, or in a service file.",
    ),
    ("role", "Check the user name in the URL."),
    ("database", "Check the database name at the end of the URL."),
    ("service", "Check the service's name in ~/.pg_service.conf."),
    ("no pg_hba.conf entry", "The server does not admit this user from this machine."),
    ("starting up", "The server is starting; try again in a moment."),
)


def unreachable(place: str, error: psycopg.Error, secrets: Iterable[str] = ()) -> TargetUnreachable:
    """A failed connection, in one line, without any of the secrets."""
    said = " ".join(_last_reason(str(error)).split())
    for secret in secrets:
        said = said.replace(secret, "…") if secret else said
    hint = next(
        (hint for words, hint in _CONNECTION_HINTS if words in said),
        "Is the server running there, and does another client reach it from here?",
    )
    return TargetUnreachable(f"Cannot connect to {place}: {said}", hint)


def _last_reason(message: str) -> str:
    """The part of libpq's message that says why, without the address that we print anyway."""
    lines = [line for line in message.splitlines() if line.strip()]
    line = lines[0] if lines else "no reason given"
    for mark in ("FATAL:", "failed:"):
        if mark in line:
            return line.split(mark, 1)[1].strip()
    return line


@contextmanager
def translated(sql: str = "", behind: int = 0) -> Iterator[None]:
    """Turn the driver's errors inside the block into ours.

    ``sql`` is the user's statement, to tell the line and column of an error; ``behind`` how
    many characters of ours were sent before it.
    """
    try:
        yield
    except psycopg.Error as error:
        raise _ours(error, sql, behind) from error


def _ours(error: psycopg.Error, sql: str, behind: int) -> HumbleError:
    said = (error.diag.message_primary or str(error).splitlines()[0]).strip()
    state = error.sqlstate or ""
    if isinstance(error, pg.QueryCanceled):
        return StatementTimedOut(
            f"The statement was cancelled: {said}.",
            "Raise the limit with --timeout, or read the estimated plan without --measure.",
            state,
        )
    if isinstance(error, pg.LockNotAvailable):
        return LockNotGranted(
            f"A lock was not granted in time: {said}.",
            "Another session holds the table; try again when it has finished.",
            state,
        )
    if isinstance(error, pg.ReadOnlySqlTransaction):
        return RefusedForSafety(
            f"The statement would change data: {said}.",
            "Add --allow-writes: it then runs in a transaction that is rolled back.",
        )
    lost = state.startswith(("57P", "08")) and state != _PROTOCOL_VIOLATION
    if lost or (not state and isinstance(error, pg.OperationalError)):
        return TargetUnreachable(
            f"The connection to the server was lost: {said}.", "Is the server still running?"
        )
    at = _position(error, sql, behind)
    where = "" if at is None else " at line {}, column {}".format(*line_and_column(sql, at))
    hint = error.diag.message_hint or "The server's own words are above; correct the statement."
    return StatementRejected(
        f"The server rejects the statement{where}: {said}.", hint, state, said, at,
        nothing_there=state in _NOT_THERE,
    )  # fmt: skip


def _position(error: psycopg.Error, sql: str, behind: int) -> int | None:
    """Where in the user's statement the fault is, in characters from 0."""
    position = error.diag.statement_position
    if not position or not sql or int(position) <= behind:
        return None
    return int(position) - 1 - behind
