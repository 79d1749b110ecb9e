"""A ledger in a file: SQLite with write-ahead logging, each step one transaction."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import msgspec
from sqlalchemy import Connection, Engine, create_engine, event, text
from sqlalchemy.pool import QueuePool

from humble_ledger.errors import LedgerUnreachable
from humble_ledger.ledger.store.contract import Store
from humble_ledger.ledger.store.place import Place

WAIT_FOR_OTHER_WRITER_S = 20
# A ledger has tables and indexes only; these would be run or read behind our back.
_ACTING_SQL = "SELECT type, name FROM sqlite_master WHERE type IN ('trigger', 'view') ORDER BY name"
_CACHE_KIB = 64 * 1024


class FileStore(Store):
    """The ledger's database file."""

    place: Path
    _own_error = sqlite3.Error
    _hints = (
        ("full", "Make room on its disk and try again; nothing of this step was kept."),
        ("I/O", "Its disk may be full or failing; nothing of this step was kept."),
        ("locked", "Another process has held it for long; try again when that has ended."),
        ("readonly", "You may not write to it or to its folder."),
        ("malformed", "It is damaged: keep the file as it is, and go on with a backup of it."),
        ("not a database", "Name another, or begin one elsewhere."),
        (
            "",
            "Is it a ledger, and may you write to it and to its folder? "
            "Nothing of this step was kept.",
        ),
    )

    def __init__(self, path: Path, *, create: bool = False) -> None:
        if not create and not path.exists():
            raise LedgerUnreachable(
                f"There is no ledger at {path}.",
                "Begin one here:  humble init postgresql://user@host/database  (or app.db)",
            )
        self.place = path
        if not create:
            self._require_ledger()
        self._engine = _engine(path)
        self._bring_up()

    @contextmanager
    def writing(self) -> Iterator[Connection]:  # noqa: D102 - see the contract
        with self._told():
            connecting = self._engine.connect().execution_options(humble_writes=True)
            with connecting as connection, connection.begin():
                yield connection

    def _require_ledger(self) -> None:
        """Look whether it is one, and leave alone what is none: a connection of ours sets it up."""
        with self._told(), closing(sqlite3.connect(self.place)) as connection:
            wanted = "SELECT count(*) FROM sqlite_master WHERE name = 'alembic_version'"
            ((found,),) = connection.execute(wanted).fetchall()
            acting = connection.execute(_ACTING_SQL).fetchall()
        if not found:
            raise LedgerUnreachable(
                f"The file {self.place} is not a ledger.", "Name another, or begin one elsewhere."
            )
        if acting:
            raise LedgerUnreachable(
                f"The ledger {self.place} has a {acting[0][0]} that is none of ours: "
                f"{acting[0][1]} could change what is kept, or what is shown.",
                "Take a copy that nobody has changed.",
            )

    def size_bytes(self) -> int:
        """The bytes of the file."""
        return self.place.stat().st_size

    def faults(self, connection: Connection) -> Iterator[str]:
        """What SQLite finds wrong with its file."""
        for (said,) in connection.execute(text("PRAGMA integrity_check")):
            if said != "ok":
                yield f"the file is damaged: {said}"
        for row in connection.execute(text("PRAGMA foreign_key_check")):
            yield f"row {row[1]} of {row[0]} names a row of {row[2]} that is not there"

    def back_up(self, to: Place) -> int:
        """Write a copy of the ledger as it is now; to a file page by page."""
        if isinstance(to, Path) and not to.exists():
            self._copy_file(to)
            return to.stat().st_size
        from humble_ledger.ledger.store.copying import copy_into_new  # noqa: PLC0415 - rare

        return copy_into_new(self, to)

    def shrink(self) -> None:
        """Give the room of what was removed back to the disk."""
        with self._told():
            self._engine.dispose()
            with closing(sqlite3.connect(self.place, isolation_level=None)) as connection:
                connection.execute("VACUUM")
                connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")

    def _keep_former(self, version: str) -> None:
        self._copy_file(self.place.with_name(f"{self.place.name}.{version}"))

    def _copy_file(self, to: Path) -> None:
        with (
            self._told(),
            closing(sqlite3.connect(self.place)) as source,
            closing(sqlite3.connect(to)) as copy,
        ):
            source.backup(copy)


def _engine(path: Path) -> Engine:
    def connected() -> sqlite3.Connection:
        # A path is no part of a URL: it may hold ?, % and whatever else.
        return sqlite3.connect(path, timeout=WAIT_FOR_OTHER_WRITER_S, check_same_thread=False)

    engine = create_engine(
        "sqlite://",
        creator=connected,
        poolclass=QueuePool,
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
        # A large capture must not write its pages out and read them again within one transaction.
        connection.execute(f"PRAGMA cache_size = -{_CACHE_KIB}")

    @event.listens_for(engine, "begin")
    def _begin(connection: Connection) -> None:
        # A writer takes its lock at once: two that both began by reading would deadlock.
        writes = connection.get_execution_options().get("humble_writes")
        connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")

    return engine
