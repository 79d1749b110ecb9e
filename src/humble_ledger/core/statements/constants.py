"""Which constants of a statement are the same whenever it is sent."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from humble_ledger.core.statements.conditions import Predicate
from humble_ledger.core.statements.parting import has_parameter, literals_of

FEWEST_RUNS = 3  # that were kept, before a constant is taken to be one
RUNS_ALL_ALIKE = 20  # that were kept, when nothing in them ever varied


@dataclass(frozen=True, slots=True)
class Constants:
    """The constants that stay and those that change from run to run, as bare texts."""

    staying: frozenset[str] = frozenset()
    changing: frozenset[str] = frozenset()

    @staticmethod
    def of_text(sql: str) -> Constants:
        """Of a statement that was given once, as it is."""
        return Constants(frozenset(literals_of(sql)))

    @staticmethod
    def of_runs(runs: Iterable[tuple[Sequence[str], Sequence[str | None]]]) -> Constants:
        """Of runs with (literals, parameters) each; a parameter always counts as changing."""
        kept = list(runs)
        changing = {value for _, values in kept for value in values if value is not None}
        if len(kept) < FEWEST_RUNS:
            return Constants(changing=frozenset(changing))
        staying: set[str] = set()
        for place in zip(*(literals for literals, _ in kept), strict=False):
            texts = {_bare(text) for text in place}
            (staying if len(texts) == 1 else changing).update(texts)
        varies = changing or any(len({v[n] for _, v in kept}) > 1 for n in range(_places(kept)))
        if not varies and len(kept) < RUNS_ALL_ALIKE:
            staying = set()  # the same question was asked a few times, that is all
        return Constants(frozenset(staying), frozenset(changing))

    def always(self, predicate: Predicate) -> bool:
        """Whether a condition compares with constants that stay."""
        if has_parameter(predicate.sql):
            return False
        texts = [piece for text in literals_of(predicate.sql) for piece in _pieces(text)]
        return bool(texts) and all(t in self.staying and t not in self.changing for t in texts)


def _places(kept: Sequence[tuple[Sequence[str], Sequence[str | None]]]) -> int:
    return min(len(values) for _, values in kept)


def _bare(text: str) -> str:
    return text.strip("'").replace("''", "'")


def _pieces(text: str) -> list[str]:
    """A list's elements, as a server writes a list of constants: {open,seen}."""
    if text.startswith("{") and text.endswith("}"):
        return [piece.strip('"') for piece in text[1:-1].split(",")]
    return [text]
