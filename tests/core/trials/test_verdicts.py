from __future__ import annotations

import pytest

from humble_ledger.core.plans.model import Pages
from humble_ledger.core.trials.model import QueryTrial, Side, Verdict
from humble_ledger.core.trials.ratio import RatioInterval
from humble_ledger.core.trials.results import compare_results, fingerprint_rows
from humble_ledger.core.trials.verdicts import final_verdict, judge_time, judge_work, overall
from humble_ledger.views.wording import in_words

MANY, FEW = Pages(cached=1000), Pages(cached=100)


def interval(estimate: float, low: float, high: float) -> RatioInterval:
    return RatioInterval(estimate, low, high, 0.95, 20)


@pytest.mark.parametrize(
    ("ratio", "verdict"),
    [
        (interval(0.5, 0.4, 0.6), Verdict.FASTER),
        (interval(2.0, 1.5, 2.5), Verdict.SLOWER),
        (interval(1.0, 0.98, 1.02), Verdict.NO_DIFFERENCE),
        (interval(0.97, 0.96, 0.99), Verdict.NO_DIFFERENCE),
        (interval(0.9, 0.7, 1.1), None),
        (interval(1.0, 0.8, 1.2), None),
        (None, None),
    ],
)
def test_time(ratio: RatioInterval | None, verdict: Verdict | None) -> None:
    assert judge_time(ratio) is verdict


def test_few_pairs_settle_large_effects_only() -> None:
    assert judge_time(RatioInterval(0.8, 0.75, 0.85, 0.97, 6)) is None
    assert judge_time(RatioInterval(0.5, 0.45, 0.55, 0.97, 6)) is Verdict.FASTER
    assert judge_time(RatioInterval(0.8, 0.75, 0.85, 0.99, 12)) is Verdict.FASTER


@pytest.mark.parametrize(
    ("before", "after", "verdict"),
    [
        (MANY, FEW, Verdict.LIGHTER),
        (FEW, MANY, Verdict.HEAVIER),
        (MANY, MANY, None),
        (Pages(cached=3), Pages(cached=1), None),
        (Pages(cached=500, temp_read=500), Pages(cached=500), Verdict.LIGHTER),
        (None, FEW, None),
    ],
)
def test_work(before: Pages | None, after: Pages | None, verdict: Verdict | None) -> None:
    assert judge_work(before, after) is verdict


@pytest.mark.parametrize(
    ("ratio", "same_plan", "verdict"),
    [
        (interval(0.5, 0.4, 0.6), False, Verdict.FASTER),
        (interval(1.0, 0.99, 1.01), False, Verdict.LIGHTER),
        (interval(0.9, 0.7, 1.1), False, Verdict.UNDECIDED),
        (interval(1.1, 0.9, 1.3), True, Verdict.NO_DIFFERENCE),
        (interval(0.8, 0.7, 0.9), True, Verdict.NO_DIFFERENCE),
        (None, False, Verdict.UNDECIDED),
    ],
)
def test_the_final_word(ratio: RatioInterval | None, same_plan: bool, verdict: Verdict) -> None:
    found, reason = final_verdict(ratio, MANY, FEW, same_plan=same_plan)
    assert found is verdict and reason


def _trial(verdict: Verdict, same_result: bool = True) -> QueryTrial:
    side = Side((1.0,), 1.0, 1.0, None, None, 0)
    return QueryTrial("q1", verdict, "", side, side, None, same_result, "", True)


def test_overall_names_the_worst_first() -> None:
    faster, slower = _trial(Verdict.FASTER), _trial(Verdict.SLOWER)
    assert overall([faster, slower]) is Verdict.SLOWER
    assert overall([faster, _trial(Verdict.NO_DIFFERENCE)]) is Verdict.FASTER
    assert overall([_trial(Verdict.FASTER, same_result=False)]) is Verdict.UNDECIDED


ROWS = [(b"1", b"a"), (b"2", None), (b"2", None)]


@pytest.mark.parametrize(
    ("other", "ordered", "same", "words"),
    [
        (ROWS, True, True, "in the same order"),
        (ROWS[::-1], False, True, "order not asked for"),
        (ROWS[::-1], True, True, "changed places"),
        (ROWS[:2], False, False, "number of rows differs: 3 before, 2 after"),
        ([*ROWS[:2], (b"2", b"")], False, False, "values differ"),
        ([ROWS[0], ROWS[0], ROWS[1]], False, False, "values differ"),
        ([(b"1a", b""), *ROWS[1:]], False, False, "values differ"),
    ],
)
def test_results(
    other: list[tuple[bytes | None, ...]], ordered: bool, same: bool, words: str
) -> None:
    found = compare_results(fingerprint_rows(ROWS), fingerprint_rows(other), ordered)
    assert found.same is same
    assert words in in_words(found.reason)
