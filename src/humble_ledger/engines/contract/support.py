"""What a server may or may not be able to do, and why not.

Code asks for a capability and never compares versions, and nobody guesses a reason: the engine
tells what it has, what it would need, and what to do about it.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Capability(StrEnum):
    """Something a server may or may not be able to do."""

    GENERIC_EXPLAIN = "explain a statement without its parameter values"
    UNCOMMITTED_INDEX = "build an index that only one session sees"
    IGNORED_INDEX = "tell a statement to ignore an index"
    PLANNING_MEMORY = "tell the memory that planning took"
    HIDDEN_INDEX = "hide an index from one session alone"
    HOLLOW = "plan on a copy of a target that has no rows"
    REPRODUCTION = "write down as SQL what a plan rests on"
    UNCOMMITTED_STATISTICS = "gather statistics that only one session sees"
    COPIES = "try changes on copies of the whole database"
    UNCOUNTED = "keep what a session does out of the server's counters"
    NOTICES_LOST_CLIENTS = "notice during a statement that the client is gone"


@dataclass(frozen=True, slots=True)
class Support:
    """Whether a server can do something; false when it cannot.

    ``since`` is what it would take ("PostgreSQL 17"), ``have`` what is there, ``reason`` why it
    cannot ("only a superuser can ..."), ``remedy`` what the user may do about it: each is text
    for a message, "" when there is nothing to tell.
    """

    available: bool = True
    since: str = ""
    have: str = ""
    reason: str = ""
    remedy: str = ""

    def __bool__(self) -> bool:
        """Whether it is available."""
        return self.available
