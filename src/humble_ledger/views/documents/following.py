"""A followed statement, look by look."""

from __future__ import annotations

from typing import Literal

import msgspec

from humble_ledger.core.results.following import Followed
from humble_ledger.core.workload.following import rows_to_come


class DoneRow(msgspec.Struct):
    """How much of something is done by the server's own count; ``of`` is null where unknown."""

    what: str
    done: float
    of: float | None


class LookRow(msgspec.Struct):
    """One look: rows that had come from each step, by its number."""

    elapsed_ms: float
    rows: dict[str, float]
    done: list[DoneRow]


class FollowedDocument(msgspec.Struct):
    """A statement that was followed while it ran; ``plan`` is null where no plan was shown."""

    session: int | None
    statement: str
    ended: bool
    plan: str | None
    rows_expected: dict[str, float]
    looks: list[LookRow]
    kind: Literal["followed"] = "followed"
    version: int = 1


def followed_document(found: Followed) -> FollowedDocument:
    """All looks."""
    expected = rows_to_come(found.entry.plan) if found.entry is not None else {}
    return FollowedDocument(
        found.session or None,
        found.sql,
        found.ended,
        found.entry.id if found.entry is not None else None,
        {str(number): rows for number, rows in expected.items()},
        [
            LookRow(
                look.elapsed_ms,
                {str(number): rows for number, rows in look.rows.items()},
                [DoneRow(each.what, each.done, each.of) for each in look.done],
            )
            for look in found.looks
        ],
    )
