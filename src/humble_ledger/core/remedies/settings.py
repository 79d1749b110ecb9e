"""Settings as remedies, for one session or role: the smallest value that should help."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.messages import Told, message
from humble_ledger.core.remedies.model import Remedy, remedy_of
from humble_ledger.core.remedies.operations import SetSettings
from humble_ledger.core.saying import MIB
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.model import Symptom

# The estimate of what a sort or hash needs is rough, and too little memory helps nothing.
RESERVE = 1.3
MOST_BYTES = 1024 * MIB  # more is not for one step of one session to take
_NEEDS = ("memory_needed_bytes_estimated", "memory_needed_bytes_computed")
_SPILLS = ("sort-spills", "hash-spills", "lossy-bitmap")


def setting_remedies(
    case: Case, found: Iterable[Symptom], query: str, dialect: Dialect = STANDARD
) -> Iterator[Remedy]:
    """Settings under which the symptoms of a plan should go."""
    symptoms, granted = list(found), case.costs.resources
    memory = [(s, _needed(case, s)) for s in symptoms if s.name in _SPILLS]
    enough = max((need for _, need in memory), default=0.0)
    if enough and enough * RESERVE <= MOST_BYTES:
        wanted = math.ceil(enough * RESERVE / MIB)
        if wanted * MIB > case.memory_bytes:
            yield _setting(
                granted.memory_setting,
                str(wanted * MIB) if dialect.memory_in_bytes else f"{wanted}MB",
                query,
                tuple(dict.fromkeys(s.name for s, _ in memory)),
                message("memory-would-hold-it", needed_bytes=enough),
                dialect,
            )
    names = {symptom.name for symptom in symptoms}
    if "jit-overhead" in names:
        yield _setting(
            granted.compile_setting,
            "off",
            query,
            ("jit-overhead",),
            message("compiling-does-not-pay"),
            dialect,
        )
    if "parallel-overhead" in names:
        yield _setting(
            granted.workers_setting, "0", query, ("parallel-overhead",),
            message("workers-hardly-help"), dialect,
        )  # fmt: skip


def _needed(case: Case, symptom: Symptom) -> float:
    """What a step needs of a sort's memory, in bytes; hashes may use a multiple of it."""
    for name in _NEEDS:
        need = symptom.evidence.get(name)
        if isinstance(need, int | float):
            hashes = symptom.name == "hash-spills"
            times = case.hash_memory_bytes / case.memory_bytes if hashes else 1.0
            return float(need) / times
    return 0.0


def _setting(
    name: str, value: str, query: str, cures: tuple[str, ...], reason: Told, dialect: Dialect
) -> Remedy:
    return remedy_of(
        SetSettings(((name, value),)),
        f"{name} = {value} for this query's session or role",
        dialect,
        reason=reason,
        cures=cures,
        queries=(query,),
    )
