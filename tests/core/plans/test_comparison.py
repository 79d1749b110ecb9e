from __future__ import annotations

from dataclasses import replace

import pytest

from humble_ledger.core.plans.comparison import Change, compare
from humble_ledger.core.plans.model import Operation
from tests.plans import RECORDED, recorded


@pytest.mark.parametrize("path", RECORDED[::3], ids=lambda p: f"{p.parent.name}-{p.stem}")
def test_a_plan_is_the_same_as_itself(path) -> None:  # type: ignore[no-untyped-def]
    plan = recorded(int(path.parent.name), path.stem)
    found = compare(plan, plan)
    assert found.same_shape
    assert found.cost.ratio in (1.0, None)
    assert len(found.pairs) == len(list(plan.nodes()))


@pytest.mark.parametrize(
    ("one", "other"), [(a, b) for a in RECORDED[:9:4] for b in RECORDED[5:60:11]]
)
def test_every_step_of_both_stands_in_one_pair(one, other) -> None:  # type: ignore[no-untyped-def]
    before, after = (recorded(int(p.parent.name), p.stem) for p in (one, other))
    pairs = compare(before, after).pairs
    assert [p.before.no for p in pairs if p.before] == [n.no for n in before.nodes()]
    assert sorted(p.after.no for p in pairs if p.after) == [n.no for n in after.nodes()]
    for pair in pairs:
        assert (pair.before is None) == (pair.change is Change.NEW)
        assert (pair.after is None) == (pair.change is Change.GONE)


def test_another_way_to_the_same_rows_is_a_replacement() -> None:
    plan = recorded(18, "01-readings-of-a-sensor")
    scan = next(node for node in plan.nodes() if node.operation is Operation.FULL_SCAN)
    looked_up = replace(scan, operation=Operation.INDEX_SCAN, label="Index Scan", index="by_id")
    (pair,) = compare(replace(plan, root=scan), replace(plan, root=looked_up)).pairs
    assert pair.change is Change.REPLACED
    sorted_first = next(node for node in plan.nodes() if node.operation is Operation.SORT)
    found = compare(replace(plan, root=sorted_first), replace(plan, root=scan))
    assert [pair.change for pair in found.pairs] == [Change.GONE, Change.MOVED]


def test_versions_of_a_server_compare() -> None:
    found = compare(recorded(15, "parallel-hash"), recorded(18, "parallel-hash"))
    assert found.time_ms.before and found.time_ms.after and found.time_ms.ratio
    assert found.pages.ratio is not None
