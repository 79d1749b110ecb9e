"""What a PostgreSQL server can do, and why it cannot do the rest."""

from __future__ import annotations

from collections.abc import Mapping

from humble_ledger.core.schema.facts import ServerFacts
from humble_ledger.engines.contract import Capability, Support
from humble_ledger.engines.postgresql import explain
from humble_ledger.engines.postgresql.connection import CLIENT_CHECK_FROM
from humble_ledger.engines.postgresql.hollow.programs import binaries_for

# From which version the server can do it; the others all supported versions can.
_SINCE: Mapping[Capability, int] = {
    Capability.PLANNING_MEMORY: explain.MEMORY_FROM,
    Capability.NOTICES_LOST_CLIENTS: CLIENT_CHECK_FROM,
}
_NOT_HERE: Mapping[Capability, tuple[str, str]] = {
    Capability.COPIES: (
        "a server's databases are not copied: changes are tried where only we see them",
        "Nothing need be done.",
    ),
    Capability.IGNORED_INDEX: (
        "no statement can be told to ignore an index by name",
        "Nothing need be done: an index is tried where only we see it.",
    ),
}
_WRITES = (Capability.UNCOMMITTED_INDEX, Capability.HIDDEN_INDEX)
_FOR_SUPERUSERS: Mapping[Capability, str] = {
    Capability.HIDDEN_INDEX: "only a superuser can hide an index from one connection",
    Capability.UNCOUNTED: "only a superuser can keep a session out of the counters",
}


def of(server: ServerFacts, capability: Capability) -> Support:
    """Whether a server can do that, with its rights and in its version."""
    since = _SINCE.get(capability, 0)
    have = f"PostgreSQL {server.version}"
    if server.version_number < since:
        wanted = f"PostgreSQL {since // 10_000}"
        return Support(
            False, wanted, have, f"this takes {wanted}, and the target is {have}",
            "Try it on a newer server: name one with --target.",
        )  # fmt: skip
    if capability is Capability.HOLLOW and binaries_for(server.version_number // 10_000) is None:
        return Support(
            False, "", have, "there are no PostgreSQL server programs on this machine to plan with",
            "Install them with:  pip install 'humble-ledger[demo]'",
        )  # fmt: skip
    if capability in _NOT_HERE:
        return Support(False, "", have, *_NOT_HERE[capability])
    if capability in _WRITES and server.read_only_copy:
        return Support(
            False, "", have, "the target is a read-only copy, where nothing can be built",
            "Try it on a server that takes writes: name one with --target.",
        )  # fmt: skip
    reason = _FOR_SUPERUSERS.get(capability, "")
    if reason and not server.superuser:
        return Support(
            False, "", have, reason, "Try it where you are superuser: name one with --target."
        )
    return Support()
