"""UUIDs that grow, and those that do not."""

from __future__ import annotations

import uuid
from collections.abc import Callable

import pytest

from humble_ledger.core.schema.random_keys import FEWEST_VALUES, drawn_by_chance


def _of_version(version: int, number: int) -> uuid.UUID:
    """One with this version, its first half growing with the number."""
    return uuid.UUID(int=(number << 96) | (version << 76) | (0b10 << 62) | number * 7919)


def _exchanged(found: uuid.UUID) -> str:
    """As a server stores it that puts the slow end of its time first."""
    digits = found.hex
    return digits[12:16] + digits[8:12] + digits[:8] + digits[16:]


@pytest.mark.parametrize(
    ("value", "by_chance"),
    [
        (lambda n: str(uuid.uuid4()), True),
        (lambda n: uuid.uuid4().hex.upper(), True),
        (lambda n: str(uuid.uuid1()), True),  # begins with the fast end of its time
        (lambda n: _exchanged(uuid.uuid1()), False),
        (lambda n: _exchanged(uuid.uuid4()), True),
        (lambda n: str(_of_version(7, n)), False),
        (lambda n: str(_of_version(6, n)), False),
        (lambda n: f"{n:036}", False),
        (lambda n: uuid.uuid4().hex if n else "0" * 32, False),  # one that is another kind
        (lambda n: f"order-{uuid.uuid4().hex[:26]}", False),
    ],
)
def test_which_keys_are_drawn_by_chance(value: Callable[[int], str], by_chance: bool) -> None:
    assert drawn_by_chance([value(n) for n in range(40)]) is by_chance


def test_few_values_tell_nothing() -> None:
    assert not drawn_by_chance([str(uuid.uuid4()) for _ in range(FEWEST_VALUES - 1)])
