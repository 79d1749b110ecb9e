"""What an audit found, each with its evidence and the next command."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

from humble_ledger.core.audits.promises import BROKEN, PromiseToday
from humble_ledger.core.messages import Told
from humble_ledger.core.trials.honesty import Honesty


class Kind(StrEnum):
    """The kinds of findings, by the words of --fail-on."""

    PROMISE = "promise"
    SLOWER = "slower"
    FASTER = "faster"
    FLIPPED = "flipped"
    NEW = "new"
    UNUSED = "unused"
    STALE = "stale"
    BLOCKED = "blocked"  # seen by a watch that samples, and by no audit


AUDITED = tuple(kind for kind in Kind if kind is not Kind.BLOCKED)


@dataclass(frozen=True, slots=True)
class Finding:
    """Something that is not as it was; ``subject`` is a query's id, a table or an index.

    ``evidence`` names what it rests on (captures, plans, trials); ``next`` is a command. A change
    for the better is ``good``.
    """

    kind: Kind
    subject: str
    words: Told
    evidence: tuple[str, ...] = ()
    next: str = ""
    details: tuple[str, ...] = ()
    good: bool = False


@dataclass(frozen=True, slots=True)
class Audit:
    """A whole audit: promises, findings, and what could not be looked at."""

    promises: tuple[PromiseToday, ...]
    findings: tuple[Finding, ...] = ()
    honesty: Honesty | None = None
    not_looked_at: tuple[str, ...] = field(default=())

    def failing(self, kinds: frozenset[Kind]) -> list[str]:
        """In a few words, each finding of one of these kinds."""
        found = [
            f"{each.promise.trial} for {each.promise.query}"
            for each in self.promises
            if Kind.PROMISE in kinds and each.standing in BROKEN
        ]
        return found + [f"{e.subject} {e.kind}" for e in self.findings if e.kind in kinds]
