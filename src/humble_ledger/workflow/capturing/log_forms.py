"""What every reading of logs needs to know: the forms there are, and what waits at a log's end."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec

from humble_ledger.capture.application import APPLICATION_LOGS
from humble_ledger.capture.assembly import Waiting, masked_waiting
from humble_ledger.engines.contract import LogFormat
from humble_ledger.engines.registry import log_formats


def log_forms() -> list[LogFormat]:
    """What is recognised, in order: the forms of applications have keys that no server writes."""
    return [*APPLICATION_LOGS, *log_formats()]


def packed_waiting(waiting: Sequence[Waiting], mask: bool) -> bytes:
    """Statements that wait for their durations, as they are kept until the log is read on."""
    kept = masked_waiting(waiting) if mask else waiting
    return msgspec.json.encode(kept) if kept else b""


def waiting_of(kept: bytes) -> Iterator[Waiting]:
    """Those that were kept."""
    if kept:
        yield from msgspec.json.decode(kept, type=list[Waiting])
