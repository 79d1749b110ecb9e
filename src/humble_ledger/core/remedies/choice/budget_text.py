"""A budget as people write it: "100MB", "5", "20%", each a limit of its own kind; and shares."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import replace

from humble_ledger.core.remedies.choice.model import Budget
from humble_ledger.errors import WrongUsage

# Each unit is what it says: MB are millions of bytes, MiB are 1,024 times 1,024.
_UNITS = {"b": 1} | {
    f"{letter}{ending}": base**power
    for power, letter in enumerate("kmgt", 1)
    for ending, base in (("b", 1000), ("ib", 1024))
}
_LIMIT = re.compile(r"(\d+(?:\.\d+)?)\s*([a-z%]*)", re.IGNORECASE)


def parse_budget(texts: Iterable[str]) -> Budget:
    """All the limits together; a later one of the same kind takes the place of the earlier.

    Raises:
        WrongUsage: a text is no limit.
    """
    budget = Budget()
    for text in texts:
        for part in text.split(","):
            budget = _limited(budget, part.strip())
    return budget


def _limited(budget: Budget, text: str) -> Budget:
    found = _LIMIT.fullmatch(text)
    number, unit = (float(found[1]), found[2].lower()) if found else (0.0, "?")
    if unit in _UNITS:
        return replace(budget, size_bytes=round(number * _UNITS[unit]))
    if unit == "%":
        return replace(budget, extra_writes=number / 100)
    if unit == "" and number.is_integer():
        return replace(budget, indexes=int(number))
    raise WrongUsage(
        f'"{text}" is not a budget.',
        "Give a size (100MB, 64MiB), a number of indexes (5), or how much more writing (20%).",
    )


def parse_share(text: str, option: str) -> float:
    """A share such as "2%" or "0.02", from 0 to 1.

    Raises:
        WrongUsage: it is none.
    """
    found = _LIMIT.fullmatch(text.strip())
    share = float(found[1]) / (100 if found[2] == "%" else 1) if found else -1.0
    if found is None or found[2] not in ("", "%") or not 0 <= share <= 1:
        raise WrongUsage(f'"{text}" is not a share.', f"Write it like  {option} 2%")
    return share
