"""Which side of a join is given on whole: its rows are wanted, partner or not."""

from __future__ import annotations

import pytest

from humble_ledger.core.plans.paths import all_given
from tests.plans import plan_of, step


@pytest.mark.parametrize(
    ("kind", "outer", "inner"),
    [
        ("Inner", False, False), ("Left", True, False), ("Right", False, True),
        ("Full", True, True), ("Semi", False, False), ("Anti", True, False),
        ("Right Anti", True, True), ("Right Semi", False, False),
    ],
)  # fmt: skip
def test_the_sides_that_a_join_gives_whole(kind: str, outer: bool, inner: bool) -> None:
    scans = [step("Seq Scan", Relation_Name=name, Alias=name) for name in ("a", "b")]
    join = plan_of(step("Hash Join", *scans, Join_Type=kind)).root
    assert tuple(all_given(join, side) for side in join.children) == (outer, inner)
