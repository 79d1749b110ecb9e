"""Keys that are drawn by chance: which of a sample of values are such UUIDs.

A UUID of version 4 is random, and one of version 1 begins with the fast end of its time; versions 6
and 7 begin with the slow end and grow (RFC 9562, sections 5.1 to 5.7).
"""

from __future__ import annotations

import re
from collections.abc import Sequence

FEWEST_VALUES = 20
_TEXT = re.compile(r"([0-9a-f]{8})-?([0-9a-f]{4})-?([0-9a-f])[0-9a-f]{3}-?[89ab][0-9a-f]{3}-?"
                   r"[0-9a-f]{12}", re.IGNORECASE)  # fmt: skip
# With the time's halves exchanged before it was stored, as some servers offer, the version comes
# first: version 1 grows then, and version 4 is as random as before.
_EXCHANGED = re.compile(r"([14])[0-9a-f]{15}[89ab][0-9a-f]{15}", re.IGNORECASE)
_BY_CHANCE = frozenset("14")


def drawn_by_chance(values: Sequence[str]) -> bool:
    """Whether all of these values, as text or as hexadecimal digits, are UUIDs that do not grow.

    Few values tell nothing.
    """
    if len(values) < FEWEST_VALUES:
        return False
    exchanged = [_EXCHANGED.fullmatch(value) for value in values]
    if all(exchanged):
        return any(found is not None and found[1] == "4" for found in exchanged)
    found = [_TEXT.fullmatch(value) for value in values]
    return all(match is not None and match[3] in _BY_CHANCE for match in found)
