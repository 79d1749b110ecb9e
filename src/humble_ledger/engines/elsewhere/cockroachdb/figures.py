"""Counts, times and sizes as CockroachDB writes them: "1,250", "1m5.2s", "21 MiB"."""

from __future__ import annotations

import re

_COUNT = re.compile(r"[\d,]+(?:\.\d+)?")
_TIME = re.compile(r"(\d+(?:\.\d+)?)(h|ms|µs|us|μs|ns|m|s)")
_MS = {"h": 3.6e6, "m": 6e4, "s": 1e3, "ms": 1.0, "µs": 1e-3, "μs": 1e-3, "us": 1e-3, "ns": 1e-6}
_SIZE = re.compile(r"([\d.,]+) ?(B|KiB|MiB|GiB|TiB)\b")
_BYTES = {"B": 1, "KiB": 1024, "MiB": 1024**2, "GiB": 1024**3, "TiB": 1024**4}


def count(text: str | None) -> float | None:
    """A count; of a range "10 - 100", where a limit may stop a scan, what the limit hopes for."""
    if not text:
        return None
    bare = text.split("(", 1)[0]
    parts = [part for part in bare.split(" - ") if part.strip()]
    found = _COUNT.search(parts[0]) if parts else None
    return float(found[0].replace(",", "")) if found and found[0].strip(",") else None


def milliseconds(text: str | None) -> float | None:
    """A span of time in milliseconds; None where there is none."""
    found = _TIME.findall(text or "")
    return sum(float(value) * _MS[unit] for value, unit in found) if found else None


def size_bytes(text: str | None) -> int | None:
    """A size in bytes; None where there is none."""
    found = _SIZE.search(text or "")
    return round(float(found[1].replace(",", "")) * _BYTES[found[2]]) if found else None
