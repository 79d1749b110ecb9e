"""What making a settled change on a target did."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class AppliedQuery:
    """A query after a change was made for good: cost before and now, and the symptoms.

    ``uses`` tells whether its plan uses the new index (used the removed one); None for changes
    that no plan names.
    """

    query: str
    cost_before: float | None
    cost_now: float | None
    uses: bool | None
    gone: tuple[str, ...]
    left: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Application:
    """A settled change made on a target: the statements with their milliseconds, the queries.

    ``saved_as`` is where the database is kept as it was before, "" where there is no such copy.
    """

    trial: str
    target: str
    statements: tuple[tuple[str, float], ...]
    queries: tuple[AppliedQuery, ...]
    saved_as: str = ""
