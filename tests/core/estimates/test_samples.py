"""How many keys a table has, and how they repeat, told from a few of its pages."""

from __future__ import annotations

import random
from collections import Counter

import pytest

from humble_ledger.core.costs.model import KeySample, by_chance

PAGES, ROWS_PER_PAGE, COMMON = 2_000, 50, 4
ROWS = PAGES * ROWS_PER_PAGE


def sampled(keys: list[int], part: float) -> KeySample:
    """What the engine's query tells of a table whose rows have these keys, page by page."""
    draw = random.Random(3)
    pages = [n for n in range(PAGES) if draw.random() < part]
    rows, places = Counter[int](), Counter[int]()
    for page in pages:
        here = keys[page * ROWS_PER_PAGE : (page + 1) * ROWS_PER_PAGE]
        rows.update(here)
        places.update(set(here))
    seen = sum(rows.values())
    common = Counter(rows[k] for k, n in places.items() if n >= COMMON)
    rare = Counter(rows[k] for k, n in places.items() if n < COMMON)
    return KeySample(
        seen, seen, len(rows), sum(n == 1 for n in places.values()), 16.0,
        tuple(common.items()), tuple(rare.items()), sum(n for n in places.values() if n < COMMON),
    )  # fmt: skip


def scattered(count: int) -> list[int]:
    draw = random.Random(7)
    return [draw.randrange(count) for _ in range(ROWS)]


TABLES = {
    "each its own": list(range(ROWS)),
    "few": scattered(40),
    "a few rows each, anywhere": scattered(20_000),
    "ten rows each, together": [n // 10 for n in range(ROWS)],
    "two hundred rows each, together": [n // 200 for n in range(ROWS)],
    "one for half of the rows": [0 if n % 2 else n for n in range(ROWS)],
    "two rows each, by chance": scattered(50_000),
    "half of them alone, the others by chance": [
        key if n % 2 else ROWS + n for n, key in enumerate(scattered(25_000))
    ],
    "some often, most by chance": [
        key if n % 2 else n % 90 for n, key in enumerate(scattered(30_000))
    ],
}


@pytest.mark.parametrize("part", [0.1, 0.3, 1.0])
@pytest.mark.parametrize("name", TABLES)
def test_the_number_of_keys_is_told_however_they_lie(name: str, part: float) -> None:
    keys = TABLES[name]
    sample, real = sampled(keys, part), len(set(keys))
    found = sample.distinct(float(ROWS))
    # In a tenth of the rows a few dozen keys stand three times: that tells how they repeat.
    assert found == pytest.approx(real, rel=1e-9 if part == 1.0 else 0.12)
    groups = sample.groups(float(ROWS), found)
    assert sum(size * many for size, many in groups) == pytest.approx(ROWS, rel=0.02)


def test_groups_seen_whole_are_told_as_they_are() -> None:
    keys = TABLES["a few rows each, anywhere"]
    sizes = Counter(Counter(keys).values())
    groups = Counter[float]()
    for size, many in sampled(keys, 1.0).groups(float(ROWS), float(sizes.total())):
        groups[size] += many
    assert groups == pytest.approx({float(size): many for size, many in sizes.items()})


@pytest.mark.parametrize("mean", [1.0, 1.01, 1.7, 5.0, 29.0, 400.0])
def test_chance_shares_out_all_entries_and_all_keys(mean: float) -> None:
    groups = by_chance(mean, 1_000.0)
    assert sum(many for _, many in groups) == pytest.approx(1_000.0, rel=1e-3)
    assert sum(size * many for size, many in groups) == pytest.approx(mean * 1_000.0, rel=1e-3)
