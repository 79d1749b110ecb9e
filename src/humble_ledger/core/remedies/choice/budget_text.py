"""A budget as people write it: "100MB", "5", "20%", each a limit of its own kind."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import replace

from humble_ledger.core.remedies.choice.model import Budget
from humble_ledger.errors import WrongUsage

# As servers and people write sizes: each step is 1,024.
_UNITS = {"kb": 1, "kib": 1, "mb": 2, "mib": 2, "gb": 3, "gib": 3, "tb": 4, "tib": 4}
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
        return replace(budget, size_bytes=round(number * 1024 ** _UNITS[unit]))
    if unit == "%":
        return replace(budget, extra_writes=number / 100)
    if unit == "" and number.is_integer():
        return replace(budget, indexes=int(number))
    raise WrongUsage(
        f'"{text}" is not a budget.',
        "Give a size (100MB), a number of indexes (5), or by how much writing may grow (20%).",
    )
