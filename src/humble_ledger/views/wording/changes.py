"""What an audit or a watch found to be not as it was."""

from __future__ import annotations

from humble_ledger.views.numbers import Numbers


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
        f"first seen in {capture}: {n.digits(took_ms)} ms in {n.whole(calls)} calls, "
        f"{n.share(share)} of that capture's time (measured)"
    )


def kept_and_not_used(n: Numbers, *, remedy: str, days: int, trial: str, size_bytes: float) -> str:
    return (
        f"{remedy} was kept {days} days ago by {trial}, and no use of it was counted since; it "
        f"takes {n.mebibytes(size_bytes)}"
    )
