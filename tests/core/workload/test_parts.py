"""Parts that were gathered apart are the whole."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from humble_ledger.core.workload.gathering import (
    KEPT_WHOLE,
    SLOWEST_KEPT,
    Gathering,
    Harvest,
    RunSeen,
)
from humble_ledger.core.workload.origins import Origin
from humble_ledger.core.workload.parts import part_of, take_in
from humble_ledger.core.workload.tags import MOST_VALUES, THE_REST

SQL = ("SELECT 1", "SELECT a FROM t", "SELECT b FROM t")
runs = st.lists(
    st.tuples(st.integers(0, 2), st.floats(0, 1e6), st.integers(0, 300)), max_size=60
)  # fmt: skip


def gathered(into: Gathering, seen: list[tuple[int, float, int]]) -> None:
    for which, ms, at in seen:
        group = into.groups.of(SQL[which], SQL[which])
        client = ("me", "db", f"app{at % 2}")
        if into.count(group, client, float(at), ms):
            into.keep(RunSeen(group, SQL[which], (), (), client, "s", float(at), ms))


def summed(harvests: list[Harvest]) -> dict[object, object]:
    found: dict[object, list[float]] = {}
    for harvest in harvests:
        for period in harvest.periods:
            text, usage = harvest.groups[period.group].text, period.usage
            sums = found.setdefault((text, period.client), [0, 0.0, 0.0, 0.0])
            sums[0] += usage.calls
            sums[1] += usage.total_ms
            sums[2] = max(sums[2], usage.max_ms or 0.0)
            sums[3] += sum(bucket * many for bucket, many in usage.durations.items())
    return dict(found)


def kept(harvests: list[Harvest]) -> list[tuple[str, float]]:
    return [(h.groups[r.group].text, r.duration_ms or 0.0) for h in harvests for r in h.runs]


@given(st.lists(runs, max_size=4))
def test_sums_and_examples_of_parts_are_those_of_the_whole(
    logs: list[list[tuple[int, float, int]]],
) -> None:
    alone, whole = Gathering(), Gathering()
    found = []
    for log in logs:
        gathered(alone, log)
        part = Gathering(numbered=True)
        gathered(part, log)
        found.append(take_in(whole, part_of(part))[0])
    there = [alone.harvest(ended=True)]
    sums, expected = summed(found), summed(there)
    assert sums.keys() == expected.keys()
    for key in sums:
        assert all(
            abs(a - b) <= 1e-6 * max(1.0, abs(b))
            for a, b in zip(sums[key], expected[key], strict=True)  # type: ignore[call-overload]
        )
    assert kept(found) == kept(there)
    assert whole.kept == alone.kept


def test_of_many_runs_the_first_the_slowest_and_few_others_are_examples() -> None:
    per, logs = 5000, 6
    alone, whole, found = Gathering(), Gathering(), []
    for log in range(logs):
        seen = [(1, 10.0 + (n * 7919 + log * 31) % 4999 / 10, n) for n in range(per)]
        gathered(alone, seen)
        part = Gathering(numbered=True)
        gathered(part, seen)
        found.append(take_in(whole, part_of(part))[0])
    ours, theirs = kept(found), kept([alone.harvest(ended=True)])
    assert ours[:KEPT_WHOLE] == theirs[:KEPT_WHOLE]
    slow = SLOWEST_KEPT // 2
    assert sorted(ours, key=lambda r: -r[1])[:slow] == sorted(theirs, key=lambda r: -r[1])[:slow]
    # Some 540 are drawn beyond the first; both ways draw from the same chances.
    assert abs(len(ours) - len(theirs)) < 0.25 * (len(theirs) - KEPT_WHOLE)


def test_places_and_tags_of_parts_are_counted_together_and_not_without_end() -> None:
    whole, found = Gathering(), []
    for log in range(3):
        part = Gathering(numbered=True)
        group = part.groups.of(SQL[0], SQL[0])
        for n in range(MOST_VALUES):
            part.tags.saw(group, [("route", f"{log}-{n}"), ("app", "web")], 2.0)
            part.origins.saw(group, Origin("a.py:1", "f"), 2.0, request=f"{log}-{n // 3}")
        found.append(take_in(whole, part_of(part))[0])
    values = {(name, value) for each in found for _, name, value in each.tags}
    assert len({value for name, value in values if name == "route"}) == MOST_VALUES + 1
    assert ("route", THE_REST) in values
    calls = sum(s.calls for each in found for (_, name, _), s in each.tags.items() if name == "app")
    assert calls == 3 * MOST_VALUES
    sent = [s for each in found for s in each.sent.values()]
    assert sum(s.calls for s in sent) == calls and sum(s.requests for s in sent) == calls // 3
    assert max(s.most_in_one for s in sent) == 3
