"""A statement's limits, and what a check of them found."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

from humble_ledger.core.messages import Message, Told
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.trials.ratio import RatioInterval


@dataclass(frozen=True, slots=True)
class TimeLimit:
    """How long a statement may take.

    ``at_most`` times a ``baseline_ms`` that was recorded, or times what the statement
    ``beside`` takes, which is run in turns with it; or ``at_most_ms`` milliseconds, whatever the
    machine.
    """

    at_most: float | None = None
    baseline_ms: float | None = None
    beside: str = ""
    at_most_ms: float | None = None


@dataclass(frozen=True, slots=True)
class Allowed:
    """What a statement may take; what is None or empty is not limited.

    ``cost`` is the server's estimate; ``pages`` are touched, ``rows_read_per_row`` are rows read
    for each row returned, ``estimates_within`` is the factor that rows may be off.
    """

    cost: float | None = None
    pages: int | None = None
    rows_read_per_row: float | None = None
    no_full_scan_of: tuple[str, ...] = ()
    uses_index: tuple[str, ...] = ()
    no_spill: bool = False
    estimates_within: float | None = None
    time: TimeLimit | None = None

    @property
    def needs_run(self) -> bool:
        """Whether the statement has to be run to judge some of them."""
        measured = (self.pages, self.rows_read_per_row, self.estimates_within, self.time)
        return self.no_spill or any(each is not None for each in measured)


@dataclass(frozen=True, slots=True)
class Limited:
    """A statement with its limits.

    ``place`` is where it stands, as ``sql/berths.sql:4``, or in which entry of the file of limits;
    ``line`` is the line there. ``outline`` is its plan when the limits were set, "" for none.
    """

    name: str
    statement: Statement
    allowed: Allowed
    place: str = ""
    line: int = 1
    outline: tuple[str, ...] = ()


class Outcome(StrEnum):
    """What became of a limit."""

    HELD = "held"
    BROKEN = "broken"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Checked:
    """One limit of one statement, held against a plan or against times.

    ``limit`` names it; ``allowed`` and ``found`` are told to people, of which ``figure`` is the
    number found where there is one; ``why`` tells more of what broke, or why nobody can tell.
    """

    limit: str
    outcome: Outcome
    allowed: Message
    found: Message
    why: Told = ""
    figure: float | None = None
    ratio: RatioInterval | None = None


@dataclass(frozen=True, slots=True)
class CheckedStatement:
    """All limits of one statement; ``outline`` is its plan now.

    ``fault`` is why it could not be planned or run at all: then nothing was judged.
    """

    limited: Limited
    checks: tuple[Checked, ...] = ()
    outline: tuple[str, ...] = ()
    fault: str = ""

    @property
    def broken(self) -> bool:
        """Whether a limit is broken, or the statement cannot be planned."""
        return bool(self.fault) or any(c.outcome is Outcome.BROKEN for c in self.checks)

    @property
    def plan_changed(self) -> bool:
        """Whether the plan is another one than when the limits were set."""
        was = self.limited.outline
        return bool(was) and bool(self.outline) and was != self.outline


@dataclass(frozen=True, slots=True)
class Unlimited:
    """A statement that has no limits, where some were expected."""

    place: str
    line: int
    text: str


@dataclass(frozen=True, slots=True)
class CheckOfAll:
    """A whole check, of the limits in ``file`` on ``target``."""

    file: str
    target: str
    statements: tuple[CheckedStatement, ...]
    unlimited: tuple[Unlimited, ...] = field(default=())

    @property
    def broken(self) -> list[CheckedStatement]:
        """The statements of which a limit is broken."""
        return [each for each in self.statements if each.broken]
