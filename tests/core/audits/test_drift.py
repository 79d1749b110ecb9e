"""Slower and faster beyond what a query varies by, on series made for it."""

from __future__ import annotations

import math
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_ledger.core.audits.drift import Observed, drift, two_samples
from humble_ledger.core.trials.model import Verdict

CHANGED = (Verdict.FASTER, Verdict.SLOWER)


def _series(rng: random.Random, count: int, kept: float, factor: float = 1.0) -> Observed:
    """Minutes that vary by a third, each resembling the one before by ``kept``."""
    wave, values = rng.gauss(0, 0.3), []
    for _ in range(count):
        wave = kept * wave + rng.gauss(0, 0.3 * math.sqrt(1 - kept * kept))
        values.append(10.0 * factor * math.exp(wave))
    return Observed(tuple(values), 20 * count, "minutes")


@pytest.mark.parametrize("kept", [0.0, 0.5])
def test_a_query_that_only_wavers_is_seldom_called_changed(kept: float) -> None:
    rng = random.Random(7)
    found = [
        drift("q", _series(rng, before, kept), _series(rng, after, kept))
        for before, after in [(6, 6), (12, 12), (30, 10), (60, 60)] * 60
    ]
    wrong = sum(each is not None and each.verdict in CHANGED for each in found)
    assert wrong <= 0.05 * len(found)


@pytest.mark.parametrize(("factor", "verdict"), [(2.0, Verdict.SLOWER), (0.4, Verdict.FASTER)])
def test_a_clear_change_is_found_and_measured(factor: float, verdict: Verdict) -> None:
    rng = random.Random(3)
    found = [
        drift("q", _series(rng, 40, 0.3), _series(rng, 20, 0.3, factor), compared=20)
        for _ in range(40)
    ]
    assert sum(each is not None and each.verdict is verdict for each in found) >= 34
    held = sum(each is not None and each.ratio.low <= factor <= each.ratio.high for each in found)
    assert held >= 36


def test_the_means_alone_decide_nothing() -> None:
    """One minute of a lock makes the mean five times as high, and nothing is slower."""
    calm = Observed(tuple(10.0 + n % 3 for n in range(20)), 400, "minutes")
    disturbed = Observed((*calm.values_ms[:19], 1_000.0), 400, "minutes")
    found = drift("q", calm, disturbed)
    assert found is not None and found.verdict not in CHANGED


def test_of_few_observations_nothing_is_said() -> None:
    few, many = Observed((10.0,) * 5, 100, "minutes"), Observed((10.0,) * 30, 100, "minutes")
    assert drift("q", few, many) is None and drift("q", many, few) is None
    assert drift("q", Observed((10.0,) * 11, 11, "runs"), many) is None


def test_single_runs_show_only_large_effects() -> None:
    def runs(factor: float) -> Observed:
        return Observed(tuple(factor * (10.0 + n % 5) for n in range(40)), 40, "runs")

    small, large = drift("q", runs(1), runs(1.3)), drift("q", runs(1), runs(3))
    assert small is not None and small.verdict is None
    assert large is not None and large.verdict is Verdict.SLOWER


@given(
    st.lists(st.floats(0.01, 1e6), min_size=6, max_size=40),
    st.lists(st.floats(0.01, 1e6), min_size=6, max_size=40),
    st.floats(0.1, 10),
)
def test_the_ratio_follows_its_sides(
    before: list[float], after: list[float], factor: float
) -> None:
    ratio = two_samples(before, after, 0.05)
    assert ratio.low <= ratio.estimate <= ratio.high
    scaled = two_samples(before, [factor * each for each in after], 0.05)
    assert scaled.estimate == pytest.approx(factor * ratio.estimate, rel=1e-6)
    turned = two_samples(after, before, 0.05)
    assert turned.estimate == pytest.approx(1 / ratio.estimate, rel=1e-6)
