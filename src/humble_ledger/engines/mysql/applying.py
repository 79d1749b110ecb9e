"""Settled changes on the target itself, statement by statement."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass

from humble_ledger.engines.contract import Limits
from humble_ledger.engines.mysql.connection import BUILD_TIMEOUT_MS, Connection, connect


@dataclass(slots=True)
class MysqlHands:
    """See `engines.contract.AdminSession`."""

    connection: Connection

    @property
    def saved_as(self) -> str:
        """The server keeps its own backups."""
        return ""

    def do(self, statement: str) -> float:
        """Run one statement; milliseconds."""
        begun = time.perf_counter()
        self.connection.do(statement)
        return (time.perf_counter() - begun) * 1000

    def together(self, statements: Sequence[str], then: Callable[[], None]) -> None:
        """One after the other: changes of a schema end a transaction here, each by itself."""
        for statement in statements:
            self.connection.do(statement)
        then()

    def drop_if_invalid(self, schema: str, name: str) -> bool:
        """Nothing unfinished is ever left: a build that breaks off is undone by the server."""
        return False


@contextmanager
def hands(url: str, limits: Limits, mark: str) -> Iterator[MysqlHands]:
    """A connection that may write, with the limit on waiting for locks."""
    connection = connect(url, limits, mark=mark, read_only=False)
    try:
        connection.patience(BUILD_TIMEOUT_MS)
        yield MysqlHands(connection)
    finally:
        connection.close()
