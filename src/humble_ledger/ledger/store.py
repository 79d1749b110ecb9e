"""Opening the ledger: SQLite with write-ahead logging, each step one transaction."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import msgspec
from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.exc import DatabaseError

from humble_ledger.errors import LedgerUnreachable
from humble_ledger.ledger import upgrading

WAIT_FOR_OTHER_WRITER_S = 20


class Store:
    """The ledger's database file; `reading` and `writing` give transactions."""

    def __init__(self, path: Path, *, create: bool = False) -> None:
        if not create and not path.exists():
            raise LedgerUnreachable(
                f"There is no ledger at {path}.",
                "Begin one here with:  humble init postgresql://user@host/database",
            )
        self.path = path
        self._engine = _engine(path)
        try:
            with self._engine.connect() as connection:
                version = upgrading.version_of(connection)
            if version is None and not create:
                raise LedgerUnreachable(
                    f"The file {path} is not a ledger.", "Name another, or begin one elsewhere."
                )
            if version != upgrading.NEWEST:
                self._upgrade(version)
        except DatabaseError as error:
            raise LedgerUnreachable(
                f"The ledger {path} cannot be opened: {error.orig}.",
                "Is it a ledger, and may you write to it and to its folder?",
            ) from error

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """A transaction that sees one state of the ledger."""
        with self._engine.connect() as connection:
            yield connection

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """One step: all of it is kept, or nothing. Waits for another writer."""
        connecting = self._engine.connect().execution_options(humble_writes=True)
        with connecting as connection, connection.begin():
            yield connection

    def close(self) -> None:
        """Close the file."""
        self._engine.dispose()

    def _upgrade(self, version: str | None) -> None:
        if version is not None and version > upgrading.NEWEST:
            raise LedgerUnreachable(
                f"The ledger {self.path} was written by a newer version of this program.",
                "Update with:  pip install --upgrade humble-ledger",
            )
        with self.writing() as connection:
            upgrading.upgrade(connection)


def _engine(path: Path) -> Engine:
    engine = create_engine(
        f"sqlite:///{path}",
        connect_args={"timeout": WAIT_FOR_OTHER_WRITER_S},
        # Ten times as quick as the standard library's: captures write lists by the thousand.
        json_serializer=lambda value: msgspec.json.encode(value).decode(),
        json_deserializer=msgspec.json.decode,
    )

    @event.listens_for(engine, "connect")
    def _settle(connection: Any, _: object) -> None:
        connection.isolation_level = None  # we begin transactions ourselves, below
        connection.execute("PRAGMA journal_mode = WAL")
        connection.execute("PRAGMA synchronous = NORMAL")
        connection.execute("PRAGMA foreign_keys = ON")

    @event.listens_for(engine, "begin")
    def _begin(connection: Connection) -> None:
        # A writer takes its lock at once: two that both began by reading would deadlock.
        writes = connection.get_execution_options().get("humble_writes")
        connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")

    return engine
