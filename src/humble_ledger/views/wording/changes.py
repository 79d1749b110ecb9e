"""What an audit or a watch found to be not as it was."""

from __future__ import annotations

from humble_ledger.views.numbers import Numbers
from humble_ledger.views.wording.parts import counted, listed, shortly


def of(n: Numbers, *, subject: str, what: str) -> str:
    return f"{subject}: {what}"


def time_has_changed(
    n: Numbers,
    *,
    now_ms: float,
    capture: str,
    runs: int,
    spans: int,
    unit: str,
    before_ms: float,
    earlier: str,
    earlier_runs: int,
    ratio: float,
    low: float,
    high: float,
) -> str:
    return (
        f"{n.digits(now_ms)} ms in {capture} ({n.whole(runs)} runs, {spans} {unit}), "
        f"{n.digits(before_ms)} ms in {earlier} ({n.whole(earlier_runs)} runs): {n.digits(ratio)} "
        f"times, between {n.digits(low)} and {n.digits(high)} (measured)"
    )


def first_seen(n: Numbers, *, capture: str, took_ms: float, calls: int, share: float) -> str:
    return (
        f"first seen in {capture}: {n.digits(took_ms)} ms in {counted(n, calls, 'call')}, "
        f"{n.share(share)} of that capture's time (measured)"
    )


def kept_and_not_used(n: Numbers, *, remedy: str, days: int, trial: str, size_bytes: float) -> str:
    return (
        f"{remedy} was kept {days} days ago by {trial}, and no use of it was counted since; it "
        f"takes {n.mebibytes(size_bytes)}"
    )


def plan_turned(n: Numbers, *, was: float | None, is_: float | None, reasons: list[str]) -> str:
    told = "it has a different plan"
    if was is not None and is_ is not None:
        told += f", cost {shortly(n, was)} → {shortly(n, is_)} (estimated)"
    return f"{told}: {listed(reasons, '; ')}"


def server_changed(n: Numbers, *, was: str, is_: str) -> str:
    return f"the server was {was} and is {is_}"


def setting_changed(n: Numbers, *, name: str, was: str, is_: str) -> str:
    return f"{name} was {was or 'the default'} and is {is_ or 'the default'}"


def index_gone(n: Numbers, *, name: str) -> str:
    return f"the index {name} is gone"


def index_newly_used(n: Numbers, *, name: str) -> str:
    return f"the index {name} is used now, and was not before"


def planned_for_other_values(n: Numbers) -> str:
    return "it was planned for other values"


def other_rows_expected(n: Numbers, *, table: str, now: float, then: float) -> str:
    return f"{n.whole(now)} rows of {table} are expected, and were {n.whole(then)}"


def plans_do_not_show_why(n: Numbers) -> str:
    return "the plans do not show why: statistics, or sizes"


def makes_index_again(n: Numbers, *, remedy: str) -> str:
    return f"{remedy} makes that index again"


def comes_back_with(n: Numbers, *, settings: str) -> str:
    return f"with {settings} the former plan comes back"


def does_not_deliver(n: Numbers, *, trial: str, why: list[str]) -> str:
    return f"{trial} does not deliver: {listed(why, '; ')}"


def slower_than_before_kept(
    n: Numbers, *, query: str, times: float, low: float, high: float
) -> str:
    return (
        f"{query} takes {n.digits(times)} times as long as before it was kept, between "
        f"{n.digits(low)} and {n.digits(high)} (measured)"
    )


def seen_too_seldom(n: Numbers, *, query: str) -> str:
    return f"{query} was seen too seldom to tell"


def outcome_of_watch(n: Numbers, *, trial: str, delivers: bool, told: list[str]) -> str:
    words = f"{trial} delivers" if delivers else f"{trial} stays, without a clear effect"
    return f"{words}: {listed(told, '; ')}"
