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
    Capability.PLANNING_MEMORY: (
        "the memory that planning took is not told",
        "The server's memory instruments tell what a session has in all.",
    ),
    Capability.HOLLOW: (
        "a copy without rows is not made of such a server yet",
        "Predictions are made by its cost formulas; a trial tells what is true.",
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


def of(member: Member, capability: Capability) -> Support:
    """Whether it can do that."""
    have = f"{member.name} {member.version}"
    if capability in _CANNOT:
        reason, remedy = _CANNOT[capability]
        return Support(False, "", have, reason, remedy)
    return Support(True, "", have)
