"""What a trial measures: a query, and what is sent for it."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.statements.kinds import Statement


@dataclass(frozen=True, slots=True)
class TriedQuery:
    """A query of the trial and what to send for it; ``values`` says which values these are.

    ``supposed`` ones were never captured: they are told, and decide nothing.
    """

    query: str
    statement: Statement
    values: str = ""
    supposed: bool = False
