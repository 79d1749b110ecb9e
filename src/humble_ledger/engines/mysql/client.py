"""One of several connections of a replay."""

from __future__ import annotations

import contextlib

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Limits, Outcome
from humble_ledger.engines.mysql.arms import MysqlArm
from humble_ledger.engines.mysql.connection import connect
from humble_ledger.errors import HumbleError


class MysqlClient:
    """See `engines.contract.Client`."""

    def __init__(self, url: str, mark: str, limits: Limits, engine: str, *, writes: bool) -> None:
        self._url, self._limits = url, limits
        self._connection = connect(url, limits, mark=mark, read_only=not writes)
        self._arm = MysqlArm(self._connection, engine)

    def run(self, statement: Statement) -> Outcome:
        """Run a statement, and take back what it changes."""
        return self._arm.run(statement)

    def do(self, sql: str) -> None:
        """Run a statement of ours in this session."""
        self._connection.do(sql)

    def cancel(self) -> None:
        """Stop what is running, by another connection."""
        with contextlib.suppress(HumbleError):
            other = connect(self._url, self._limits)
            try:
                other.do(f"KILL QUERY {self._connection.number}")
            finally:
                other.close()

    def close(self) -> None:
        """End the session."""
        self._connection.close()
