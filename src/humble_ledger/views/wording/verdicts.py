"""Why a trial found what it found, and how its promise stands since."""

from __future__ import annotations

from humble_ledger.views.numbers import Numbers


def too_few_pairs(n: Numbers) -> str:
    return "too few pairs of runs for an interval"


def same_plan_on_both_sides(n: Numbers, *, holds_one: bool) -> str:
    why = "the interval holds 1" if holds_one else "the difference in time is the machine's"
    return f"both sides ran the same plan; {why}"


def interval_on_one_side(n: Numbers) -> str:
    return "the whole interval lies on one side of 1"


def alike_in_time_not_in_work(n: Numbers, *, effect: float) -> str:
    return f"times within {n.share(effect)}, but clearly different work"


def interval_within_effect(n: Numbers, *, effect: float) -> str:
    return f"the whole interval lies within {n.share(effect)} of 1"


def interval_leaves_it_open(n: Numbers, *, effect: float) -> str:
    return f"the interval neither leaves 1 nor stays within {n.share(effect)} of it"


def times_say_nothing(n: Numbers) -> str:
    return "the results differ, so times say nothing"


def neither_side_ended(n: Numbers, *, limit_ms: float) -> str:
    return f"neither side ended within {_seconds(n, limit_ms)}"


def ends_with_change(n: Numbers, *, limit_ms: float) -> str:
    return f"before the change it did not end within {_seconds(n, limit_ms)}, with it it does"


def ends_without_change(n: Numbers, *, limit_ms: float) -> str:
    return f"with the change it does not end within {_seconds(n, limit_ms)}, before it did"


def _seconds(n: Numbers, ms: float) -> str:
    return f"{n.digits(ms / 1000, 6)} s"


def there_and_not_used(n: Numbers) -> str:
    return "it is there, and the plan does not use it"


def cost_not_known(n: Numbers) -> str:
    return "the cost is not known"


def dearer_than_promised(n: Numbers, *, times: float) -> str:
    return f"the cost is {n.fixed(times, 1)} times what the trial found"


def as_good_as_promised(n: Numbers) -> str:
    return "the plan is as good as the trial found"
