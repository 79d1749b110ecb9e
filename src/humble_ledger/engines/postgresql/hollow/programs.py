"""Which server programs a hollow runs on."""

from __future__ import annotations

from humble_ledger.engines.postgresql.launcher import Binaries, all_binaries

DUMP = "pg_dump"


def binaries_for(major: int) -> Binaries | None:
    """Server programs of the target's major version, else the newest there are; None for none."""
    found = [b for b in all_binaries() if (b.folder / DUMP).exists()]
    same = [b for b in found if b.major == major]
    return next(iter(same), None) or max(found, key=lambda b: b.major, default=None)


def reader_for(major: int) -> Binaries | None:
    """Programs that read the schema of a server of this major version: any not older than it."""
    found = [b for b in all_binaries() if (b.folder / DUMP).exists() and b.major >= major]
    return min(found, key=lambda b: b.major, default=None)


def other_version(here: int, there: int) -> str:
    """What planning by another major version may spoil."""
    return (
        f"planned by PostgreSQL {here}, and the target is {there}: plans that differ between these "
        "versions are predicted wrongly"
    )
