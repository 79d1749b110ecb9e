"""What these servers refuse, as errors of ours that say what to do next."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import pymysql

from humble_ledger.errors import (
    HumbleError,
    LockNotGranted,
    RefusedForSafety,
    StatementRejected,
    StatementTimedOut,
    TargetUnreachable,
)

# Numbers of the servers' documented error lists.
_TIMED_OUT = frozenset((1969, 3024, 1317, 1028))
_LOCKED = frozenset((1205, 1213, 3572))
_READ_ONLY = frozenset((1792, 1290, 1836))
# Unknown table, column, index to drop, routine, database.
_NOT_THERE = frozenset((1051, 1146, 1054, 1091, 1305, 1049))
_LOST = frozenset((2006, 2013, 2055, 1053, 1927, 4031, 1152, 1159, 1160, 1161))
_CONNECTION_HINTS = {
    1044: "This user may not enter the database; check its name, or ask for the right to it.",
    1045: "Check user and password: in ~/.my.cnf, group client, or in the URL.",
    1698: "This account logs in by the socket only, as the user of the same name.",
    1049: "Check the database name at the end of the URL.",
    1040: "All of its connections are taken; try again in a moment.",
    1130: "The server does not admit connections from this machine.",
    2002: "Is the server running there? A socket can be given: ?socket=/run/mysqld/mysqld.sock",
    2003: "Is the server running there, and does another client reach it from here?",
}


def said_by(error: pymysql.Error) -> tuple[int, str]:
    """Number and words of an error; 0 where it has none."""
    number = error.args[0] if error.args and isinstance(error.args[0], int) else 0
    words = str(error.args[1] if number and len(error.args) > 1 else error)
    return number, " ".join(words.split()).rstrip(".")


def unreachable(place: str, error: Exception, secret: str = "") -> TargetUnreachable:
    """A failed connection, in one line, without the password."""
    number, said = said_by(error) if isinstance(error, pymysql.Error) else (0, str(error))
    said = said.replace(secret, "…") if secret else said
    hint = _CONNECTION_HINTS.get(number, "Does another client reach it from here?")
    return TargetUnreachable(f"Cannot connect to {place}: {said}.", hint)


@contextmanager
def translated() -> Iterator[None]:
    """Turn the driver's errors inside the block into ours.

    Raises:
        StatementRejected: the statement is wrong, or names what is not there.
        StatementTimedOut, LockNotGranted, RefusedForSafety, TargetUnreachable: as they say.
    """
    try:
        yield
    except pymysql.Error as error:
        raise fault(error) from error


def fault(error: pymysql.Error) -> HumbleError:
    """What an error of the driver means."""
    number, said = said_by(error)
    state = str(number)
    if number in _TIMED_OUT:
        return StatementTimedOut(
            f"The statement was cancelled: {said}.",
            "Raise the limit with --timeout, or read the estimated plan without --measure.",
            state,
        )
    if number in _LOCKED:
        return LockNotGranted(
            f"A lock was not granted in time: {said}.",
            "Another session holds the table; try again when it has finished.",
            state,
        )
    if number in _READ_ONLY:
        return RefusedForSafety(
            f"The statement would change data: {said}.",
            "Add --allow-writes: it then runs in a transaction that is rolled back.",
        )
    if number in _LOST or isinstance(error, pymysql.InterfaceError):
        return TargetUnreachable(
            f"The connection to the server was lost: {said or 'it is closed'}.",
            "Is the server still running?",
        )
    if number == 0 and isinstance(error, pymysql.OperationalError):
        return TargetUnreachable(f"The server did not answer: {said}.", "Is it still running?")
    hint = "The server's own words are above; correct the statement."
    if number in (1142, 1143, 1227, 1370):
        hint = "Ask for the right, or connect as a user who has it."
    return StatementRejected(
        f"The server rejects the statement: {said}.", hint, state, said,
        nothing_there=number in _NOT_THERE,
    )  # fmt: skip
