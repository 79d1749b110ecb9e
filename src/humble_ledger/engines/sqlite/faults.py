"""What SQLite refuses, as errors that say what to do next."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import apsw

from humble_ledger.errors import (
    HumbleError,
    LockNotGranted,
    RefusedForSafety,
    StatementRejected,
    StatementTimedOut,
    TargetUnreachable,
)

_DAMAGED = (apsw.CorruptError, apsw.NotADBError, apsw.FormatError)


@contextmanager
def translated(path: Path) -> Iterator[None]:
    """Errors of the library as our own, about a file.

    Raises:
        StatementRejected: the statement is wrong, or names what is not there.
        StatementTimedOut, LockNotGranted, RefusedForSafety, TargetUnreachable: as they say.
    """
    try:
        yield
    except apsw.Error as error:
        raise fault(error, path) from error


def fault(error: apsw.Error, path: Path) -> HumbleError:
    """What an error of the library means."""
    said = " ".join(str(error).removeprefix(f"{type(error).__name__}:").split())
    if isinstance(error, apsw.InterruptError):
        return StatementTimedOut(
            "The statement ran into the time limit.", "Give it longer: --timeout, in seconds."
        )
    if isinstance(error, apsw.BusyError | apsw.LockedError):
        return LockNotGranted(
            f"{path.name} is locked by another connection.",
            "Try again when its transaction has ended.",
        )
    if isinstance(error, _DAMAGED):
        return TargetUnreachable(
            f"{path} is damaged, or it is encrypted: {said}.",
            "PRAGMA integrity_check tells more; a copy from a backup can be looked at instead.",
        )
    if isinstance(error, apsw.AuthError):
        return RefusedForSafety(
            f"This is not run on {path.name}: {said}.",
            "Statements may read this database, and neither open other files nor change settings.",
        )
    if isinstance(error, apsw.ReadOnlyError | apsw.PermissionsError):
        return RefusedForSafety(
            f"{path.name} is opened for reading only: {said}.",
            "Changes are tried on a copy:  humble trial",
        )
    if isinstance(error, apsw.FullError):
        return TargetUnreachable(f"The disk is full: {said}.", "Make room and try again.")
    if isinstance(error, apsw.CantOpenError | apsw.IOError):
        return TargetUnreachable(
            f"{path} cannot be read: {said}.", "Check the path and your rights to it."
        )
    hint = ""
    if "no such function" in said or "no such collation" in said:
        hint = "The application makes it; here only what SQLite has itself is known."
    if "FOREIGN KEY" in said:
        hint = "Foreign keys are kept here, as with PRAGMA foreign_keys = ON."
    return StatementRejected(
        f"SQLite refuses the statement: {said}.", hint, said=said, nothing_there="no such" in said
    )
