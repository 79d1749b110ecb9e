"""What should help: remedies, and the indexes chosen within a budget."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from humble_ledger.core.entries import (
    RemedyEntry,
)
from humble_ledger.core.messages import Told
from humble_ledger.core.remedies.choice.model import Budget, Choice
from humble_ledger.core.remedies.choice.weights import Weights
from humble_ledger.core.remedies.design import IndexDesign


@dataclass(frozen=True, slots=True)
class RefusedRewriting:
    """A rewriting of a query that is not proposed: on the ``example`` it means something else."""

    query: str
    summary: str
    example: str


@dataclass(frozen=True, slots=True)
class Together:
    """Indexes that a query takes all at once, and is clearly cheaper by than by the best of them.

    ``remedies`` are their ids; costs are the server's units, ``way`` tells how they were predicted.
    """

    query: str
    remedies: tuple[str, ...]
    cost_before: float
    cost_predicted: float
    way: str


@dataclass(frozen=True, slots=True)
class Proposals:
    """What is worth trying, the best first; and indexes that could stand in place of those.

    ``more_alternatives`` were found and not kept. ``left_out`` are subjects that could not be
    studied, each with the reason; ``declined`` tells why indexes are predicted by formula though
    a planner was to be asked, ``cautions`` what may make all predictions worse, ``refused``
    rewritings that were found to mean something else. ``stopped_early`` tells that somebody ended
    it before all that was to be predicted was. ``together`` are queries that take several of the
    indexes at once, ``queries`` those that were asked about.
    """

    remedies: tuple[RemedyEntry, ...]
    alternatives: tuple[RemedyEntry, ...] = ()
    more_alternatives: int = 0
    left_out: tuple[tuple[str, str], ...] = ()
    declined: str = ""
    cautions: tuple[Told, ...] = ()
    refused: tuple[RefusedRewriting, ...] = ()
    stopped_early: bool = False
    together: tuple[Together, ...] = ()
    queries: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class ChosenIndexes:
    """A choice under a budget with the entries of its indexes, and of removals it allows.

    ``writers`` are captured queries that change rows of a table that gets an index, with that
    table; ``rewrites`` need no index at all. ``weights`` tells what makes a query count;
    ``plans_asked`` were made by a planner for it, ``took_ms`` is the time that all of it took.
    ``left_out``, ``declined``, ``cautions`` and ``stopped_early`` are as with `Proposals`.
    """

    choice: Choice
    budget: Budget
    remedies: Mapping[IndexDesign, RemedyEntry]
    removals: tuple[RemedyEntry, ...] = ()
    writers: tuple[tuple[str, str], ...] = ()
    weights: Weights = Weights.TIME
    rewrites: tuple[RemedyEntry, ...] = ()
    left_out: tuple[tuple[str, str], ...] = ()
    declined: str = ""
    cautions: tuple[Told, ...] = ()
    plans_asked: int = 0
    took_ms: float = 0.0
    least_gain: float = 0.0
    stopped_early: bool = False
