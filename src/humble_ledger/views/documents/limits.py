"""Limits: a check of them, and what was proposed."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from msgspec import Struct

from humble_ledger.core.limits.model import CheckedStatement, CheckOfAll, Limited
from humble_ledger.core.limits.outline import difference
from humble_ledger.views.wording import in_words


class CheckedLimitRow(Struct, frozen=True):
    """One limit: held, broken or unknown; ``figure`` is the number found, where there is one."""

    limit: str
    outcome: str
    allowed: str
    found: str
    why: str
    figure: float | None


class CheckedStatementRow(Struct, frozen=True):
    """A statement with its limits; ``fault`` is why it has no plan, ``plan`` its steps now.

    ``plan_difference`` tells old from new lines by their first letter; [] of an unchanged plan.
    """

    name: str
    place: str
    statement: str
    broken: bool
    fault: str
    checks: list[CheckedLimitRow]
    plan: list[str]
    plan_difference: list[str]


class UnlimitedRow(Struct, frozen=True):
    """A statement of the folder that has no limits."""

    place: str
    statement: str


class LimitsDocument(Struct, frozen=True):
    """A check of limits."""

    file: str
    target: str
    broken: int
    statements: list[CheckedStatementRow]
    without_limits: list[UnlimitedRow]
    kind: Literal["limits"] = "limits"
    version: Literal[1] = 1


class LeftOutRow(Struct, frozen=True):
    """A query that got no limits."""

    query: str
    why: str


class LimitsSetDocument(Struct, frozen=True):
    """Limits that were written into a file, by the names they have there."""

    file: str
    added: list[str]
    left_out: list[LeftOutRow]
    kind: Literal["limits-set"] = "limits-set"
    version: Literal[1] = 1


def limits_document(found: CheckOfAll) -> LimitsDocument:
    """A check of limits."""
    return LimitsDocument(
        found.file,
        found.target,
        len(found.broken),
        [_statement(each) for each in found.statements],
        [UnlimitedRow(each.place, each.text) for each in found.unlimited],
    )


def limits_set_document(
    file: str, limited: Sequence[Limited], left_out: Sequence[tuple[str, str]]
) -> LimitsSetDocument:
    """What was written into a file of limits."""
    return LimitsSetDocument(
        file, [each.name for each in limited], [LeftOutRow(*each) for each in left_out]
    )


def _statement(each: CheckedStatement) -> CheckedStatementRow:
    limited = each.limited
    return CheckedStatementRow(
        limited.name,
        limited.place,
        limited.statement.sql,
        each.broken,
        each.fault,
        [
            CheckedLimitRow(
                c.limit,
                c.outcome.value,
                in_words(c.allowed),
                in_words(c.found),
                in_words(c.why),
                c.figure,
            )
            for c in each.checks
        ],
        list(each.outline),
        difference(limited.outline, each.outline) if each.plan_changed else [],
    )
