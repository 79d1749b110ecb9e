"""Figures as the display package shortens them: "1250", "12K", "3M (0)", "00:00:01.23"."""

from __future__ import annotations

import re

_NUMBER = re.compile(r"^(?P<value>\d[\d,]*(?:\.\d+)?)\s*(?P<unit>[KMGTPE]?)\b")
_PASSES = re.compile(r"\((\d+)\)")
_TIME = re.compile(r"^(?:(\d+)\s+)?(\d+):(\d+):(\d+(?:\.\d+)?)$")
_MOST = 1e18  # no server counts further
_STEPS = {"": 0, "K": 1, "M": 2, "G": 3, "T": 4, "P": 5, "E": 6}


def count(text: str) -> float | None:
    """Rows, starts, blocks: shortened by thousands."""
    return _scaled(text, 1000.0)


def size(text: str, bare: float = 1.0) -> int | None:
    """Bytes: shortened by 1,024; ``bare`` is what a figure without a unit counts in."""
    found = _scaled(text, 1024.0)
    if found is None:
        return None
    shortened = any(unit in text.upper() for unit in "KMGTPE")
    return round(found if shortened else found * bare)


def passes(text: str) -> int | None:
    """The number in brackets behind used memory: how often it went through temporary space."""
    found = _PASSES.search(text)
    return int(found[1]) if found else None


def milliseconds(text: str) -> float | None:
    """Hours, minutes and seconds."""
    found = _TIME.match(text.strip())
    if found is None:
        return None
    days, hours, minutes, seconds = (float(part or 0) for part in found.groups())
    return (((days * 24 + hours) * 60 + minutes) * 60 + seconds) * 1000


def _scaled(text: str, step: float) -> float | None:
    found = _NUMBER.match(text.strip())
    if found is None:
        return None
    figure = float(found["value"].replace(",", "")) * step ** _STEPS[found["unit"]]
    return figure if figure < _MOST else None
