"""From measurements to one of six words, and the reason."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.messages import Message, message
from humble_ledger.core.plans.model import Pages
from humble_ledger.core.trials.model import QueryTrial, Verdict
from humble_ledger.core.trials.ratio import FEWEST_PAIRS, RatioInterval

SMALLEST_EFFECT = 0.05  # a change of less than 5 % is no reason to keep anything
LARGE_EFFECT = 0.5
# Few pairs cannot show how the machine wavers: the fewer, the further from 1 must the whole
# interval be. (Up to so many pairs, by which factor.) Measured: on a machine whose runs vary by
# a sixth, a thing against itself was called different in 7.7 % of 260 trials without this and
# batch means, in 4.6 % with them.
MARGINS = ((6, 1.25), (12, 1.08), (20, 1.03))
CLEARLY_LESS_WORK = 0.8
FEWEST_PAGES = 16


def judge_time(
    ratio: RatioInterval | None, smallest_effect: float = SMALLEST_EFFECT
) -> Verdict | None:
    """The verdict on time, or None while the interval does not settle it.

    * faster, slower: the interval lies on one side of 1 (with few pairs well away from it), the
      estimate beyond the smallest effect;
    * no difference: the interval lies within the smallest effect around 1.
    """
    if ratio is None:
        return None
    lower, upper = 1.0 / (1.0 + smallest_effect), 1.0 + smallest_effect
    effect = smallest_effect
    if ratio.pairs <= FEWEST_PAIRS:
        # So few pairs cannot show how the machine wavers: only large effects count.
        effect = max(effect, LARGE_EFFECT)
    margin = next((factor for pairs, factor in MARGINS if ratio.pairs <= pairs), 1.0)
    if ratio.high < 1.0 / margin and ratio.estimate < 1.0 / (1.0 + effect):
        return Verdict.FASTER
    if ratio.low > margin and ratio.estimate > 1.0 + effect:
        return Verdict.SLOWER
    if lower <= ratio.low and ratio.high <= upper:
        return Verdict.NO_DIFFERENCE
    return None


def judge_work(before: Pages | None, after: Pages | None) -> Verdict | None:
    """Lighter or heavier by the pages touched, temporary ones included; None when alike."""
    if before is None or after is None:
        return None
    old, new = _work(before), _work(after)
    if abs(old - new) < FEWEST_PAGES:
        return None
    if new < CLEARLY_LESS_WORK * old:
        return Verdict.LIGHTER
    if old < CLEARLY_LESS_WORK * new:
        return Verdict.HEAVIER
    return None


def final_verdict(
    ratio: RatioInterval | None,
    before: Pages | None,
    after: Pages | None,
    *,
    same_plan: bool,
    smallest_effect: float = SMALLEST_EFFECT,
) -> tuple[Verdict, Message]:
    """The verdict when measuring has ended, and its reason.

    ``same_plan``: both sides ran the same plan. Then a difference of time is the machine's,
    not the change's, and it is said so.
    """
    if ratio is None:
        return Verdict.UNDECIDED, message("too-few-pairs")
    on_time = judge_time(ratio, smallest_effect)
    if same_plan:
        holds_one = ratio.low <= 1.0 <= ratio.high
        return Verdict.NO_DIFFERENCE, message("same-plan-on-both-sides", holds_one=holds_one)
    if on_time in (Verdict.FASTER, Verdict.SLOWER):
        return on_time, message("interval-on-one-side")
    on_work = judge_work(before, after)
    if on_time is Verdict.NO_DIFFERENCE:
        if on_work is not None:
            return on_work, message("alike-in-time-not-in-work", effect=smallest_effect)
        return Verdict.NO_DIFFERENCE, message("interval-within-effect", effect=smallest_effect)
    return Verdict.UNDECIDED, message("interval-leaves-it-open", effect=smallest_effect)


def overall(queries: Sequence[QueryTrial]) -> Verdict:
    """One word for the whole trial: the worst news first, then the best.

    A query counts with each of its sets of values that was captured or given.
    """
    every = [each for query in queries for each in query.sets() if not each.supposed]
    found = {each.verdict for each in every}
    if any(each.same_result is False for each in every):
        return Verdict.UNDECIDED
    if not every:
        return Verdict.UNDECIDED
    for verdict in (
        Verdict.SLOWER,
        Verdict.HEAVIER,
        Verdict.FASTER,
        Verdict.LIGHTER,
        Verdict.UNDECIDED,
    ):
        if verdict in found:
            return verdict
    return Verdict.NO_DIFFERENCE


def _work(pages: Pages) -> int:
    return pages.touched + pages.temp_read + pages.temp_written
