"""What a session may do, and how it is named to the server's administrators."""

from __future__ import annotations

from dataclasses import dataclass

STATEMENT_TIMEOUT_MS = 60_000
LOCK_TIMEOUT_MS = 2_000
APPLICATION_NAME = "humble-ledger"


@dataclass(frozen=True, slots=True)
class Limits:
    """What a session may do: its time-outs in milliseconds, and what it may call.

    ``may_call`` are names, in small letters, of functions that may act outside of a transaction
    and that the user allowed.
    """

    statement_ms: int = STATEMENT_TIMEOUT_MS
    lock_ms: int = LOCK_TIMEOUT_MS
    may_call: frozenset[str] = frozenset()
