"""What SQLite can do, and why it cannot do the rest."""

from __future__ import annotations

from collections.abc import Mapping

from humble_ledger.engines.contract import Capability, Support

_CANNOT: Mapping[Capability, tuple[str, str]] = {
    Capability.IGNORED_INDEX: (
        "a statement cannot be told to ignore an index by name",
        "Trials are made on copies, of which one has the index.",
    ),
    Capability.PLANNING_MEMORY: (
        "SQLite does not tell the memory that planning took",
        "Measure the whole process with the tools of the operating system.",
    ),
    Capability.NOTICES_LOST_CLIENTS: (
        "SQLite runs inside our own process: there is no client to lose",
        "Stop it with Ctrl-C.",
    ),
}


def of(version: str, capability: Capability) -> Support:
    """Whether it can do that."""
    have = f"SQLite {version}"
    if capability in _CANNOT:
        reason, remedy = _CANNOT[capability]
        return Support(False, "", have, reason, remedy)
    return Support(True, "", have)
