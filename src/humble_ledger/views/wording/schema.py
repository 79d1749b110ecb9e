"""Indexes, foreign keys and statistics of a schema."""

from __future__ import annotations

from humble_ledger.views.numbers import Numbers
from humble_ledger.views.wording.parts import listed


def index_for_nothing(
    n: Numbers, *, index: str, what: str, size_bytes: float, written: int | None
) -> str:
    size = n.fixed(size_bytes / 1024 / 1024, 1)
    rows = "" if written is None else f", and up to {n.whole(written)} rows were written to it"
    return f"{index} {what}; it takes {size} MiB{rows}"


def not_used_once(n: Numbers, *, since: str) -> str:
    return f"was not used once {since}"


def used_by_no_captured(n: Numbers, *, queries: int, table: str) -> str:
    return f"is used by none of {n.whole(queries)} captured queries of {table}"


def told_by_captured_plans(n: Numbers) -> str:
    return (
        "told by the plans of captured queries, as this server counts no use of indexes: what was "
        "not captured may need it"
    )


def maintained_and_unusable(n: Numbers) -> str:
    return "is maintained on every write but cannot be used"


def build_failed(n: Numbers, *, again: str = "") -> str:
    how = f" with {again}" if again else ""
    return f"a concurrent build failed; drop it, or build it anew{how}"


def repeats(n: Numbers, *, other: str) -> str:
    return f"repeats {other}"


def begins(n: Numbers, *, other: str) -> str:
    return f"is a prefix of {other}"


def another_index_serves(
    n: Numbers, *, other: str, keys: list[str], same: bool, scans: int | None, since: str
) -> str:
    used = "" if scans is None else f"; this one was used {n.whole(scans)} times {since}"
    return (
        f"{other} has {listed(keys)} as its {'keys' if same else 'first keys'} too and serves "
        f"every search this one serves{used}"
    )


def since_counters_were_reset(n: Numbers, *, minutes: float | None) -> str:
    if minutes is None:
        return "since the counters were reset, which is not known"
    return f"in the {_lasting(n, minutes)} since the counters were reset"


def _lasting(n: Numbers, minutes: float) -> str:
    if minutes < 120:
        return "minute" if minutes < 1.5 else f"{n.whole(minutes)} minutes"
    hours = minutes / 60
    return f"{n.whole(hours)} hours" if hours < 48 else f"{n.whole(hours / 24)} days"


def read_without_it(n: Numbers, *, table: str, times: int, long_enough: bool) -> str:
    others = f"{table} was read {n.whole(times)} times without it"
    if not long_enough:
        return f"{others}; a monthly report may still need it: look again after a whole period"
    return f"{others}; ask those who might need it on a replica, which counts for itself"


def reference_is_searched(
    n: Numbers, *, deleted: int, refers_to: str, pages: int, columns: list[str], by_query: bool
) -> str:
    reasons = []
    if deleted:
        reasons.append(
            f"{n.whole(deleted)} rows of {refers_to} were deleted since the counters were reset, "
            f"and each looks for its rows here, through {n.whole(pages)} pages"
        )
    if by_query:
        reasons.append(f"captured queries join or search by {listed(columns)}")
    return "; ".join(reasons)


def deletes_are_looked_up(n: Numbers, *, refers_to: str, now: float, cost: float) -> str:
    return (
        f"each delete or change of a key in {refers_to} looks for its rows here: cost "
        f"{n.whole(now)} now, {n.whole(cost)} with it (both by formula)"
    )


def rows_changed_since(n: Numbers, *, changed: int) -> str:
    return f"{n.whole(changed)} rows changed since" if changed else "none were gathered"


def statistics_missing(n: Numbers, *, table: str, pages: int) -> str:
    return f"no statistics were gathered on {table}, {n.whole(pages)} pages"


def rows_land_anywhere(n: Numbers, *, table: str, column: str, pages: int) -> str:
    return (
        f"{table} keeps its rows in the order of {column}, a random UUID: each insert "
        f"lands on any of its {n.whole(pages)} pages, which stay partly empty"
    )


def key_does_not_grow(n: Numbers, *, bytes: float, indexes: int, held_bytes: int) -> str:
    held = ""
    if indexes:
        what = "the other index holds" if indexes == 1 else f"{indexes} other indexes hold"
        held = (
            f"; {what} its {n.whole(bytes)} bytes for each row again, {n.size(held_bytes)} in all "
            "(computed)"
        )
    return (
        "a key that grows (a number, or a UUID of version 7, which begins with its time) fills "
        f"page after page{held}"
    )


def never_analyzed(n: Numbers, *, statement: str) -> str:
    return f"the planner guesses; {statement} tells it"


def statistics_stale(
    n: Numbers, *, changed: int, rows: float, table: str, gathered: str | None
) -> str:
    return (
        f"{n.whole(changed)} of {n.whole(rows)} rows of {table} changed since its statistics were "
        f"gathered {gathered or 'at a time not known'}"
    )


def changed_since(n: Numbers, *, statement: str) -> str:
    return f"{statement} gathers them anew"


def statistics_too_coarse(
    n: Numbers, *, table: str, column: str, listed: int, rarest: float, others: float
) -> str:
    return (
        f"{table}.{column}: the {listed} listed values end at one with {n.whole(rarest)} rows; "
        f"all others are estimated at {n.whole(others)}"
    )


def in_partitions_too(n: Numbers, *, first: str, more: int, table: str) -> str:
    others = "another partition" if more == 1 else f"{n.whole(more)} more partitions"
    return f"{first}; it is alike in {others} of {table}"


def statistics_target_too_small(
    n: Numbers, *, skew: float, table: str, column: str, target: int, how: str = ""
) -> str:
    helps = how or f"a list of {n.whole(target)} values of {table}.{column}"
    return f"values just behind the list are misjudged up to {n.whole(skew)} times; {helps}"
