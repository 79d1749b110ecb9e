"""Which values make a query slow: its runs grouped by each value they were sent with."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from statistics import median

from humble_ledger.core.statements.tokens import Token, TokenKind, meaningful, unquoted
from humble_ledger.core.statements.wording import HOLE

FEWEST_RUNS = 3
SLOWER_BY = 2.0
LEAST_MS = 1.0
_MOST_VALUES = 5_000


@dataclass(frozen=True, slots=True)
class ValuedRun:
    """A run's duration (ms) and the values it was sent with, by place."""

    duration_ms: float
    values: Sequence[str | None]


@dataclass(frozen=True, slots=True)
class SlowValue:
    """A value whose runs are slow: their median (ms) against that of all other runs."""

    place: int
    value: str | None
    runs: int
    median_ms: float
    others_ms: float

    @property
    def ratio(self) -> float:
        """How many times slower."""
        return self.median_ms / max(self.others_ms, 0.001)


def slow_values(runs: Iterable[ValuedRun], fewest_runs: int = FEWEST_RUNS) -> list[SlowValue]:
    """The values that go with slow runs, the slowest first.

    A value counts when it has at least ``fewest_runs`` runs whose median is twice that of the runs
    with other values in the same place, and a millisecond more.
    """
    seen = list(runs)
    found = []
    for place in range(max((len(run.values) for run in seen), default=0)):
        by_value: dict[str | None, list[float]] = {}
        for run in seen:
            if place < len(run.values) and len(by_value) < _MOST_VALUES:
                by_value.setdefault(run.values[place], []).append(run.duration_ms)
        if len(by_value) < 2:
            continue
        for value, durations in by_value.items():
            if len(durations) < fewest_runs:
                continue
            others = [ms for other, each in by_value.items() if other != value for ms in each]
            mine, rest = median(durations), median(others)
            if mine >= SLOWER_BY * rest and mine - rest >= LEAST_MS:
                found.append(SlowValue(place, value, len(durations), mine, rest))
    return sorted(found, key=lambda each: each.ratio, reverse=True)


@dataclass(frozen=True, slots=True)
class Place:
    """Where a value stands in a statement: the column it is compared with, and what fills it.

    ``literal`` or ``parameter`` is the number of what fills it, from 0.
    """

    name: str
    literal: int | None = None
    parameter: int | None = None

    def value(self, literals: Sequence[str], parameters: Sequence[str | None]) -> str | None:
        """The value of a run; strings without their quotes."""
        if self.literal is not None and self.literal < len(literals):
            return literals[self.literal].strip("'")
        if self.parameter is not None and self.parameter < len(parameters):
            return parameters[self.parameter]
        return None


_MARK = "'\ue001'"


def places_of(wording: str) -> list[Place]:
    """The places of a wording's literals and parameters, in order."""
    kept = meaningful(wording.replace(HOLE, _MARK))
    places: list[Place] = []
    literal = 0
    for at, token in enumerate(kept):
        if token.kind is TokenKind.STRING and token.text == _MARK:
            places.append(Place(_name_before(kept, at) or f"value {len(places) + 1}", literal))
            literal += 1
        elif token.kind is TokenKind.PARAMETER and token.text[0] == "$":
            number = int(token.text[1:]) - 1
            places.append(Place(_name_before(kept, at) or token.text, None, number))
    return places


_STEPPED_OVER = (TokenKind.OPERATOR, TokenKind.PARAMETER, TokenKind.STRING, TokenKind.NUMBER)
_SPOKEN = frozenset(("and", "between", "in", "like", "ilike", "not", "is", "any"))
_NAMELESS = frozenset(("select", "values", "then", "else", "when", "interval", "date",
                       "timestamp", "timestamptz", "or", "where", "on", "by"))  # fmt: skip


def _name_before(kept: Sequence[Token], place: int) -> str:
    for token in reversed(kept[max(0, place - 40) : place]):
        word = token.text.lower()
        if token.kind in _STEPPED_OVER or word in _SPOKEN or word in ("(", ")", ","):
            continue
        if token.kind is TokenKind.QUOTED or (
            token.kind is TokenKind.WORD and word not in _NAMELESS
        ):
            return unquoted(token.text)
        return ""
    return ""
