"""What every store of a ledger does, and how its own errors reach the user."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager

from sqlalchemy import Connection, Engine
from sqlalchemy.exc import SQLAlchemyError

from humble_ledger.errors import LedgerUnreachable
from humble_ledger.ledger import upgrading
from humble_ledger.ledger.store.place import Place


class Store(ABC):
    """A ledger's tables; `reading` and `writing` give transactions."""

    place: Place
    _engine: Engine
    # Words of the store's own errors, each with what to do then; the last goes for all others.
    _hints: Sequence[tuple[str, str]]
    _own_error: type[Exception]

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """A transaction that sees one state of the ledger.

        Raises:
            LedgerUnreachable: it cannot be opened, or is damaged.
        """
        with self._told(), self._reader().connect() as connection:
            yield connection

    @abstractmethod
    def writing(self) -> AbstractContextManager[Connection]:
        """One step: all of it is kept, or nothing. Waits for another writer.

        Raises:
            LedgerUnreachable: it cannot be written: the disk is full, somebody else holds it,
                it may only be read. The ledger is as it was before the step.
        """

    @abstractmethod
    def size_bytes(self) -> int:
        """The room it takes."""

    @abstractmethod
    def faults(self, connection: Connection) -> Iterator[str]:
        """What is wrong with the tables themselves: damage, rows that name rows not there."""

    @abstractmethod
    def back_up(self, to: Place) -> int:
        """Write a copy of the ledger as it is now, and tell its bytes; others may go on writing.

        Raises:
            LedgerUnreachable: there is something already, or it cannot be written.
        """

    @abstractmethod
    def shrink(self) -> None:
        """Give the room of what was removed back, as far as the store can."""

    @abstractmethod
    def _keep_former(self, version: str) -> None:
        """Keep a copy of the ledger before its tables are brought to a newer version."""

    def close(self) -> None:
        """Close it."""
        self._engine.dispose()

    def _reader(self) -> Engine:
        return self._engine

    def _bring_up(self) -> None:
        """Make the tables what this program knows, unless they are."""
        with self.reading() as connection:
            version = upgrading.version_of(connection)
        if version == upgrading.NEWEST:
            return
        if version is not None and version > upgrading.NEWEST:
            raise LedgerUnreachable(
                f"The ledger {self.place} was written by a newer version of this program.",
                "Update with:  pip install --upgrade humble-ledger",
            )
        if version is not None:
            self._keep_former(version)
        with self.writing() as connection:
            self._upgrade(connection)

    def _upgrade(self, connection: Connection) -> None:
        upgrading.upgrade(connection)

    @contextmanager
    def _told(self) -> Iterator[None]:
        """The store's own errors in the user's terms; each ends the step, and undoes it."""
        try:
            yield
        except (SQLAlchemyError, self._own_error) as error:
            said = str(getattr(error, "orig", None) or error).splitlines()[0]
            hint = next(hint for words, hint in self._hints if words in said)
            raise LedgerUnreachable(
                f"The ledger {self.place} cannot be used: {said.rstrip('.')}.", hint
            ) from error
