"""What holds for one question alone, and is put back behind it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from humble_ledger.engines.mysql.building import require_harmless_setting
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.values import literal
from humble_ledger.errors import WrongUsage


@contextmanager
def with_settings(connection: Connection, settings: Sequence[tuple[str, str]]) -> Iterator[None]:
    """Settings of the session, as they were before afterwards.

    Raises:
        WrongUsage: a name cannot be one.
        RefusedForSafety: it would let a session write.
    """
    before: list[tuple[str, object]] = []
    try:
        for name, value in settings:
            if not name.replace("_", "").replace(".", "").isalnum():
                raise WrongUsage(f'"{name}" is no name of a setting.', "Give  --set name=value")
            require_harmless_setting(name)
            before.append((name, connection.one(f"SELECT @@SESSION.{name}")))
            connection.do(f"SET SESSION {name} = {literal(value)}")
        yield
    finally:
        for name, earlier in reversed(before):
            shown = None if earlier is None else str(earlier)
            connection.do(f"SET SESSION {name} = {literal(shown)}")


@contextmanager
def undone(connection: Connection) -> Iterator[None]:
    """A transaction that is rolled back."""
    connection.do("START TRANSACTION")
    try:
        yield
    finally:
        connection.do("ROLLBACK")


@contextmanager
def writing(connection: Connection) -> Iterator[None]:
    """A transaction of a session that reads, which may write and is rolled back."""
    connection.do("SET SESSION TRANSACTION READ WRITE")
    try:
        with undone(connection):
            yield
    finally:
        connection.do("SET SESSION TRANSACTION READ ONLY")


@contextmanager
def reading(connection: Connection) -> Iterator[None]:
    """Statements that only read, of a session that may write."""
    connection.do("SET SESSION TRANSACTION READ ONLY")
    try:
        yield
    finally:
        connection.do("SET SESSION TRANSACTION READ WRITE")
