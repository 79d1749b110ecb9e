from __future__ import annotations

import math
import random
import statistics

import pytest
from scipy import stats

from humble_ledger.core.trials.model import Verdict
from humble_ledger.core.trials.ratio import (
    LOOKS,
    MOST_PAIRS,
    covering_both,
    effective_pairs,
    estimate_only,
    rate_at,
    ratio_interval,
    running_order,
    signed_rank_depth,
)
from humble_ledger.core.trials.verdicts import judge_time


def test_the_looks_spend_the_error_rate_and_no_more() -> None:
    assert sum(rate for _, rate in LOOKS) == pytest.approx(0.05)
    assert rate_at(6, MOST_PAIRS) == LOOKS[0][1]
    assert rate_at(7, MOST_PAIRS) is None
    assert rate_at(9, 9) == pytest.approx(0.05 - LOOKS[0][1])
    assert rate_at(100, 100) is not None


@pytest.mark.parametrize("pairs", [6, 9, 12, 20])
@pytest.mark.parametrize("rate", [0.05, 0.0315])
def test_depth_agrees_with_the_exact_signed_rank_test(pairs: int, rate: float) -> None:
    depth = signed_rank_depth(pairs, rate)
    assert depth is not None
    # The largest statistic that is still significant, by an independent implementation.
    significant = [w for w in range(pairs * (pairs + 1) // 4) if _p_value(pairs, w) <= rate]
    assert depth == max(significant)


def _p_value(pairs: int, statistic: int) -> float:
    """Two-sided p of a sample whose negative ranks add up to ``statistic``."""
    signs, left = [1] * pairs, statistic
    for rank in range(pairs, 0, -1):
        if rank <= left:
            signs[rank - 1], left = -1, left - rank
    sample = [sign * rank for sign, rank in zip(signs, range(1, pairs + 1), strict=True)]
    return float(stats.wilcoxon(sample, method="exact").pvalue)


def test_too_few_pairs_give_no_interval() -> None:
    assert signed_rank_depth(5, 0.05) is None
    assert ratio_interval([1, 1, 1], [2, 2, 2], 0.05) is None
    assert estimate_only([1, 1, 1], [2, 2, 2]) == pytest.approx(2)


def test_the_interval_holds_the_estimate_and_keeps_outliers() -> None:
    before = [10.0, 11, 9, 10, 10, 10, 10, 11]
    after = [5.0, 5.5, 4.5, 500, 5, 5, 5, 5.5]
    found = ratio_interval(before, after, 0.05)
    assert found is not None
    assert found.low <= found.estimate <= found.high
    assert found.estimate == pytest.approx(0.5, rel=0.01)
    assert found.high > 1, "an interval over eight pairs that ignores one of them is too short"
    assert found.confidence >= 0.95


def test_six_equal_pairs_show_a_factor_of_two() -> None:
    found = ratio_interval([10.0] * 6, [5.0] * 6, LOOKS[0][1])
    assert found is not None and found.high == pytest.approx(0.5)


def test_pairs_alternate() -> None:
    order = running_order()
    assert [next(order)[0] for _ in range(4)] == ["before", "after", "before", "after"]


def _verdict_of_simulated_trial(
    effect: float, noise: float, rng: random.Random, lingering: float = 0.0
) -> str:
    """``lingering``: how much of the disturbance of one pair stays for the next."""
    before: list[float] = []
    after: list[float] = []
    burden = [0.0, 0.0]
    while len(before) < MOST_PAIRS:
        burden = [lingering * old + rng.gauss(0, noise) for old in burden]
        before.append(10 * math.exp(burden[0]))
        after.append(10 * effect * math.exp(burden[1]))
        rate = rate_at(len(before), MOST_PAIRS)
        if rate is not None:
            verdict = judge_time(ratio_interval(before, after, rate))
            if verdict is not None:
                return verdict.value
    return "undecided"


@pytest.mark.parametrize("noise", [0.01, 0.05, 0.15])
def test_a_thing_against_itself_is_hardly_ever_called_different(noise: float) -> None:
    rng = random.Random(7)
    verdicts = [_verdict_of_simulated_trial(1.0, noise, rng) for _ in range(300)]
    wrong = sum(v in ("faster", "slower") for v in verdicts)
    assert wrong / len(verdicts) <= 0.05


@pytest.mark.parametrize(("effect", "word"), [(0.9, "faster"), (1 / 0.9, "slower")])
def test_a_true_tenth_is_found(effect: float, word: str) -> None:
    rng = random.Random(11)
    verdicts = [_verdict_of_simulated_trial(effect, 0.04, rng) for _ in range(200)]
    assert verdicts.count(word) / len(verdicts) >= 0.9


@pytest.mark.parametrize("lingering", [0.3, 0.6])
def test_disturbances_that_linger_hardly_deceive_the_judge(lingering: float) -> None:
    """Without widening the interval a third of these would be called different."""
    rng = random.Random(3)
    verdicts = [_verdict_of_simulated_trial(1.0, 0.08, rng, lingering) for _ in range(300)]
    wrong = sum(v in ("faster", "slower") for v in verdicts)
    assert wrong / len(verdicts) <= 0.10


def test_pairs_that_resemble_each_other_are_worth_fewer() -> None:
    waves = [math.sin(n / 4) for n in range(40)]
    assert effective_pairs(waves) < 12
    rng = random.Random(5)
    assert effective_pairs([rng.gauss(0, 1) for _ in range(40)]) > 25
    assert effective_pairs([0.5] * 8) == 8


def test_stages_cover_what_the_machine_did_meanwhile() -> None:
    before = [10.0 + 0.1 * (n % 3) for n in range(12)]
    changed = [5.0 + 0.1 * (n % 4) for n in range(24)]
    steady = covering_both(before, changed, before)
    assert steady is not None
    assert 0.45 < steady.low < 0.51 < steady.high < 0.6 and steady.pairs == 24
    # A machine that grows twice as slow for the last stage: the interval says so.
    drifting = covering_both(before, changed, [2 * each for each in before])
    assert drifting is not None
    assert drifting.low < 0.27 and drifting.high > 0.49
    assert covering_both(before, changed, []) is None
    assert covering_both(before[:3], changed[:6], before[:3]) is None


def test_noise_that_lasts_over_several_pairs_is_seen() -> None:
    """Every four pairs the machine turns to favour one side: fewer pairs than they seem."""
    chance = random.Random(11)
    lasting, single, said = [], [], 0
    for _ in range(150):
        turns = [chance.gauss(0, 0.15) for _ in range(10)]
        logs = [turns[n // 4] + chance.gauss(0, 0.08) for n in range(40)]
        lasting.append(effective_pairs(logs))
        single.append(effective_pairs([chance.gauss(0, 0.17) for _ in range(40)]))
        after = [math.exp(each) for each in logs]
        looks = (ratio_interval([1.0] * n, after[:n], rate) for n, rate in LOOKS)
        said += any(judge_time(found) in (Verdict.FASTER, Verdict.SLOWER) for found in looks)
    assert statistics.median(lasting) < 15 and statistics.median(single) > 25
    assert said <= 12, "8 % at most of things against themselves"
