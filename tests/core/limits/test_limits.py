"""Limits held against plans that were made by hand."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_ledger.core.limits.judging import judge, judge_time
from humble_ledger.core.limits.model import Allowed, Outcome, TimeLimit
from humble_ledger.core.limits.outline import difference, outline
from humble_ledger.core.limits.proposing import proposed
from humble_ledger.core.plans.model import (
    Cost,
    Discarded,
    Elapsed,
    Memory,
    Node,
    Operation,
    Pages,
    Plan,
)
from humble_ledger.core.trials.ratio import RatioInterval
from humble_ledger.views.wording import in_words

SCAN = Node(
    2, Operation.INDEX_SCAN, "Index Scan", relation="reading", index="reading_at",
    cost=Cost(0, 90), rows_expected=10, rows_seen=20, loops=1, elapsed=Elapsed(0, 4),
    discarded=Discarded(by_filter=60), pages=Pages(cached=30, read=10),
)  # fmt: skip
SORT = Node(
    1, Operation.SORT, "Sort", cost=Cost(0, 100), rows_expected=10, rows_seen=20, loops=1,
    elapsed=Elapsed(0, 5), pages=Pages(cached=31, read=10), children=(SCAN,),
)  # fmt: skip
PLAN = Plan("any", "1", SORT, measured=True, execution_ms=5.0)
FULL = replace(SCAN, operation=Operation.FULL_SCAN, label="Full Scan", index="")
SPILLS = replace(SORT, memory=Memory(spilled_bytes=8_192))


def _plan(root: Node) -> Plan:
    return replace(PLAN, root=root)


def _estimated(plan: Plan) -> Plan:
    bare = replace(SCAN, rows_seen=None, loops=None, elapsed=None, pages=None)
    root = replace(
        plan.root, rows_seen=None, loops=None, elapsed=None, pages=None, children=(bare,)
    )
    return replace(plan, root=root, measured=False, execution_ms=None)


@pytest.mark.parametrize(
    ("allowed", "plan", "outcome", "found"),
    [
        (Allowed(cost=100), PLAN, Outcome.HELD, "100 (estimated)"),
        (Allowed(cost=99), PLAN, Outcome.BROKEN, "100 (estimated)"),
        (Allowed(pages=41), PLAN, Outcome.HELD, "41 (measured)"),
        (Allowed(pages=40), PLAN, Outcome.BROKEN, "41 (measured)"),
        (Allowed(rows_read_per_row=4), PLAN, Outcome.HELD, "4 (measured)"),
        (Allowed(rows_read_per_row=3.9), PLAN, Outcome.BROKEN, "4 (measured)"),
        (Allowed(no_full_scan_of=("reading",)), PLAN, Outcome.HELD, "none"),
        (
            Allowed(no_full_scan_of=("Reading",)),
            _plan(replace(SORT, children=(FULL,))),
            Outcome.BROKEN,
            "step 2, Full Scan on reading",
        ),
        (
            Allowed(no_full_scan_of=("alert",)),
            _plan(replace(SORT, children=(FULL,))),
            Outcome.HELD,
            "none",
        ),
        (Allowed(uses_index=("reading_at",)), PLAN, Outcome.HELD, "reading_at"),
        (Allowed(uses_index=("reading_at", "other")), PLAN, Outcome.BROKEN, "reading_at"),
        (Allowed(no_spill=True), PLAN, Outcome.HELD, "none does"),
        (Allowed(no_spill=True), _plan(SPILLS), Outcome.BROKEN, "step 1, Sort"),
        (
            Allowed(estimates_within=10),
            _plan(replace(SORT, children=(replace(SCAN, rows_seen=5_000),))),
            Outcome.BROKEN,
            "step 2, Index Scan on reading by reading_at: 500×",
        ),
        (Allowed(estimates_within=10), PLAN, Outcome.HELD, "all are"),
    ],
)
def test_each_limit(allowed: Allowed, plan: Plan, outcome: Outcome, found: str) -> None:
    (check,) = judge(allowed, plan)
    assert (check.outcome, in_words(check.found)) == (outcome, found)


@pytest.mark.parametrize(
    "allowed",
    [
        Allowed(pages=40),
        Allowed(rows_read_per_row=4),
        Allowed(no_spill=True),
        Allowed(estimates_within=2),
    ],
)
def test_what_was_not_measured_is_unknown_and_says_why(allowed: Allowed) -> None:
    (check,) = judge(allowed, _estimated(PLAN), "no rows here")
    assert (check.outcome, check.why) == (Outcome.UNKNOWN, "no rows here")


@pytest.mark.parametrize(
    ("low", "high", "outcome"),
    [(1.2, 1.9, Outcome.HELD), (2.1, 3.0, Outcome.BROKEN), (1.9, 2.1, Outcome.UNKNOWN)],
)
def test_a_time_breaks_its_limit_with_its_whole_interval_only(
    low: float, high: float, outcome: Outcome
) -> None:
    ratio = RatioInterval((low + high) / 2, low, high, 0.95, 12)
    limit = TimeLimit(at_most=2.0, baseline_ms=10.0)
    assert judge_time(limit, ratio, 17.0).outcome is outcome


@given(
    st.floats(0.01, 1e9), st.integers(0, 10**7), st.integers(0, 10**6), st.floats(0, 1e6),
    st.booleans(), st.booleans(),
)  # fmt: skip
def test_what_is_proposed_holds_for_the_plan_it_was_proposed_for(
    cost: float, pages: int, rows: int, discarded: float, full: bool, spills: bool
) -> None:
    scan = replace(FULL if full else SCAN, rows_seen=rows, discarded=Discarded(by_filter=discarded))
    root = replace(
        SPILLS if spills else SORT, cost=Cost(0, cost), pages=Pages(cached=pages), rows_seen=rows,
        children=(scan,),
    )  # fmt: skip
    plan = _plan(root)
    found = judge(proposed(plan), plan)
    assert found
    assert {each.outcome for each in found} == {Outcome.HELD}, found


def test_another_plan_breaks_what_was_proposed() -> None:
    broken = {
        each.limit
        for each in judge(
            proposed(PLAN), _plan(replace(SPILLS, cost=Cost(0, 900), children=(FULL,)))
        )
        if each.outcome is Outcome.BROKEN
    }
    assert broken == {"cost", "full-scan", "index", "spill"}


def test_an_outline_tells_plans_apart_by_their_shape_alone() -> None:
    assert outline(PLAN) == ("sort", "  index scan reading by reading_at")
    assert outline(_plan(replace(SORT, cost=Cost(0, 7)))) == outline(PLAN)
    other = outline(_plan(replace(SORT, children=(FULL,))))
    assert difference(outline(PLAN), other) == [
        "  sort",
        "-   index scan reading by reading_at",
        "+   full scan reading",
    ]
