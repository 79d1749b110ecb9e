"""Names of trials' indexes."""

from __future__ import annotations

import pytest

from humble_ledger.core.trials.marks import marked_ending, marked_name


@pytest.mark.parametrize("name", ["a_ix", "x" * 63, "å" * 40, "漁" * 21, "a" + "🌊" * 20])
def test_the_mark_is_whole_whatever_the_name(name: str) -> None:
    made = marked_name(name, "t12@0a1b2c3d")
    assert made.endswith(marked_ending("t12@0a1b2c3d")) and len(made.encode()) <= 63
    assert made.split("__t12")[0] in name
