"""What running or planning a statement may do beside giving its rows.

A read-only transaction keeps a statement from changing the database it is in, and nothing else:
functions may send signals, take locks that outlast it, read and write files, or talk to other
servers.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from humble_ledger.errors import RefusedForSafety

ALLOW_OPTION = "--allow-side-effects"


class SideEffectReason(StrEnum):
    """Why something that a statement calls may act outside of its transaction."""

    VOLATILE = "volatile"
    OPAQUE = "opaque"  # its language does not show what it does
    FOREIGN = "foreign"  # another server, or a program
    DYNAMIC = "dynamic"  # it runs statements that are made while it runs


_WORDS = {
    SideEffectReason.VOLATILE: "is volatile",
    SideEffectReason.OPAQUE: "is written in {language}, which does not show what it does",
    SideEffectReason.FOREIGN: "reaches outside of this database",
    SideEffectReason.DYNAMIC: "runs statements that are made while it runs",
}


@dataclass(frozen=True, slots=True)
class SideEffect:
    """A function (or foreign-data wrapper) that a statement may call.

    ``name`` is what allows it; ``through`` tells how it is reached ("view app.open_alerts"), ""
    directly. ``planner_calls`` is set when the planner may call it for an estimate, as it does
    with what is not volatile; ``reaches`` names what such a function was seen to call that acts
    outside, "" when nothing was seen.
    """

    name: str
    reason: SideEffectReason
    through: str = ""
    language: str = ""
    planner_calls: bool = False
    reaches: str = ""

    @property
    def words(self) -> str:
        """What it is and how it is reached: "app.bump (through view app.all), which is …"."""
        why = _WORDS[self.reason].format(language=self.language)
        reached = f" (through {self.through})" if self.through else ""
        seen = f" and calls {self.reaches}" if self.reaches not in ("", self.name) else ""
        return f"{self.name}{reached}, which {why}{seen}"


def refuse_run(found: Iterable[SideEffect], allowed: frozenset[str]) -> None:
    """Refuse to run what may act outside of its transaction, unless it was allowed by name.

    Raises:
        RefusedForSafety: something was found that is not allowed.
    """
    _refuse([each for each in found if not is_allowed(each, allowed)], "run")


def refuse_plan(found: Iterable[SideEffect], allowed: frozenset[str]) -> None:
    """Refuse to plan what the planner itself would call and was seen to act outside.

    Raises:
        RefusedForSafety: something was found that is not allowed.
    """
    acting = [
        each
        for each in found
        if each.planner_calls and each.reaches and not is_allowed(each, allowed)
    ]
    _refuse(acting, "planned")


def is_allowed(found: SideEffect, allowed: frozenset[str]) -> bool:
    """Whether a user has named it, with its schema or without."""
    name = found.name.lower()
    return name in allowed or name.rpartition(".")[2] in allowed


def _refuse(left: list[SideEffect], done: str) -> None:
    if not left:
        return
    names = ",".join(dict.fromkeys(each.name for each in left))
    more = f", and {len(left) - 1} more such" if len(left) > 1 else ""
    raise RefusedForSafety(
        f"The statement is not {done}: {'it' if done == 'run' else 'for that the planner'} calls "
        f"{left[0].words}{more}. What that does may outlast our transaction.",
        f"If you know that it is harmless, name it:  {ALLOW_OPTION} {names}",
    )
