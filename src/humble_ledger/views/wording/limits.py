"""Limits of a statement: what is allowed, what was found, and why nobody can tell."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.views.numbers import Numbers
from humble_ledger.views.wording.parts import listed, shortly

_ALL_DIGITS = 12  # a limit is shown as it was written


def unknown(n: Numbers) -> str:
    return "unknown"


def not_run(n: Numbers) -> str:
    return "the statement was not run"


def server_tells_no_cost(n: Numbers) -> str:
    return "the server tells no cost"


def server_counts_no_pages(n: Numbers) -> str:
    return "the server counts no pages"


def server_counts_no_rows(n: Numbers) -> str:
    return "the server counts no rows of steps"


def server_tells_no_spills(n: Numbers) -> str:
    return "the server does not tell what steps write to disk"


def at_most(n: Numbers, *, most: float) -> str:
    return f"at most {n.digits(most, _ALL_DIGITS)}"


def figure_found(n: Numbers, *, found: float, estimated: bool) -> str:
    return f"{shortly(n, found)} ({'estimated' if estimated else 'measured'})"


def none_of(n: Numbers, *, names: Sequence[str]) -> str:
    return f"none of {listed(names)}"


def none_found(n: Numbers) -> str:
    return "none"


def steps_found(n: Numbers, *, steps: Sequence[str], nos: Sequence[int]) -> str:
    return listed([f"step {no}, {step}" for no, step in zip(nos, steps, strict=True)])


def uses(n: Numbers, *, names: Sequence[str]) -> str:
    return f"uses {listed(names)}"


def indexes_used(n: Numbers, *, names: Sequence[str]) -> str:
    return listed(names) or "no index"


def not_used(n: Numbers, *, names: Sequence[str]) -> str:
    return f"not used: {listed(names)}"


def no_step_writes_to_disk(n: Numbers) -> str:
    return "no step writes to disk"


def none_does(n: Numbers) -> str:
    return "none does"


def rows_within(n: Numbers, *, factor: float) -> str:
    return f"rows within {n.digits(factor, 6)}× of those expected"


def all_are(n: Numbers) -> str:
    return "all are"


def step_is_off(n: Numbers, *, no: int, step: str, factor: float) -> str:
    return f"step {no}, {step}: {n.digits(factor)}×"


def rows_came_otherwise(n: Numbers, *, more: bool) -> str:
    return f"{'more' if more else 'fewer'} rows came than expected"


def took(n: Numbers, *, median_ms: float) -> str:
    return f"{n.digits(median_ms)} ms (measured, median)"


def took_times(n: Numbers, *, median_ms: float, times: float, low: float, high: float) -> str:
    return (
        f"{took(n, median_ms=median_ms)}, {n.digits(times)} times, between {n.digits(low)} and "
        f"{n.digits(high)}"
    )


def too_few_runs(n: Numbers) -> str:
    return "too few runs"


def limit_within_noise(n: Numbers) -> str:
    return "the limit lies within what the runs vary by"


def at_most_ms(n: Numbers, *, most_ms: float) -> str:
    return f"at most {n.digits(most_ms, 6)} ms"


def at_most_times_beside(n: Numbers, *, times: float | None) -> str:
    return f"at most {n.digits(times or 1.0, 6)} times the statement beside it"


def at_most_times_baseline(n: Numbers, *, times: float | None, baseline_ms: float | None) -> str:
    return (
        f"at most {n.digits(times or 1.0, 6)} times the baseline of "
        f"{n.digits(baseline_ms or 0.0, 6)} ms"
    )
