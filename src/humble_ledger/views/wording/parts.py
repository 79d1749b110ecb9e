"""What sentences have in common: lists, tenses, and a thing or several."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.views.numbers import Numbers


def tense(measured: bool, happened: str, expected: str) -> str:
    """What a step did, by a measured plan, or would do, by an estimated one."""
    return happened if measured else f"would {expected}"


def listed(names: Sequence[str], last: str = ", ") -> str:
    """Names one after the other, with ``last`` between them: "a, b"; "a and b"."""
    return last.join(names)


def shortly(n: Numbers, value: float) -> str:
    """A figure with three telling digits where it has no more, else whole: 0.25, 41, 22,916."""
    return n.whole(value) if value >= 100 else n.digits(value)


def counted(n: Numbers, count: float, thing: str) -> str:
    """ "one session", "12 sessions"."""
    return f"one {thing}" if count == 1 else f"{n.whole(count)} {thing}s"
