"""What these servers can do, and why they cannot do the rest."""

from __future__ import annotations

from collections.abc import Mapping

from humble_ledger.engines.contract import Capability, Support
from humble_ledger.engines.mysql.connection import Member

_CANNOT: Mapping[Capability, tuple[str, str]] = {
    Capability.GENERIC_EXPLAIN: (
        "a statement is planned with the values of its parameters only",
        "Give values with --param, or capture the statement with them.",
    ),
    Capability.UNCOMMITTED_INDEX: (
        "an index is there for every session as soon as it is built",
        "A trial builds it online, and tells one side to ignore it.",
    ),
    Capability.UNCOMMITTED_STATISTICS: (
        "statistics are there for every session as soon as they are gathered",
        "A trial gathers them where there are none, and removes them after.",
    ),
    Capability.PLANNING_MEMORY: (
        "the memory that planning took is not told",
        "The server's memory instruments tell what a session has in all.",
    ),
    Capability.REPRODUCTION: (
        "its planner counts entries in indexes, which no statistics hold",
        "Name a copy of your own with --target.",
    ),
    Capability.COPIES: (
        "the whole database is not copied for a trial",
        "Name a copy of your own with --target.",
    ),
    Capability.UNCOUNTED: (
        "what a session does is always counted",
        "Our own statements carry our name among the connection's attributes.",
    ),
    Capability.NOTICES_LOST_CLIENTS: (
        "a lost client is noticed when the statement ends",
        "Statements of ours end by the server's own time limit.",
    ),
}


def of(member: Member, capability: Capability, *, read_only: bool = False) -> Support:
    """Whether it can do that; ``read_only`` as the whole server is."""
    have = f"{member.name} {member.version}"
    if read_only and capability is Capability.IGNORED_INDEX:
        return Support(
            False,
            "",
            have,
            "the target is a read-only server, where nothing can be built",
            "Try it on a server that takes writes: name one with --target.",
        )
    if capability in _CANNOT:
        reason, remedy = _CANNOT[capability]
        return Support(False, "", have, reason, remedy)
    return Support(True, "", have)
