"""Scans of tables and indexes that read much, and those that are right."""

from __future__ import annotations

from humble_ledger.views.numbers import Numbers
from humble_ledger.views.wording.parts import listed, tense


def scan_keeps_few(
    n: Numbers,
    *,
    measured: bool,
    whole: bool,
    read: float,
    table: str,
    kept: float,
    times: float = 1.0,
    rows_when_none: float | None = None,
) -> str:
    again = f", {n.whole(times)} times" if times > 1 else ""
    or_all = (
        "" if rows_when_none is None else f", and all {n.whole(rows_when_none)} when none is there"
    )
    return (
        f"{tense(measured, 'reads', 'read')} {'all ' if whole else ''}{n.whole(read)} rows of "
        f"{table}{again} to keep {n.whole(kept)}{or_all}"
    )


def scan_is_right(n: Numbers, *, table: str) -> str:
    return f"the full scan of {table} is the right choice"


def no_filter(n: Numbers, *, table: str) -> str:
    return f"there is no filter: the query reads all rows of {table}"


def route_costs_more(
    n: Numbers, *, share: float, index: str, cost: float, now: float, even: float
) -> str:
    return (
        f"it keeps {n.share(share)} of the rows; by {index} the plan costs {n.whole(cost)} "
        f"against {n.whole(now)} (estimated), and wins only below {n.share(even)}"
    )


def index_costs_more(n: Numbers, *, share: float, cost: float, now: float, even: float) -> str:
    return (
        f"it keeps {n.share(share)} of the rows; an index would cost {n.whole(cost)} against "
        f"{n.whole(now)} (predicted), and wins only below {n.share(even)}"
    )


def route_not_taken(
    n: Numbers,
    *,
    index: str,
    cost: float,
    now: float,
    even: float,
    expected: float,
    came: float | None,
) -> str:
    measured = "" if came is None else f", {n.share(came)} came"
    return (
        f"by {index} the plan costs {n.whole(cost)} against {n.whole(now)} (estimated), and wins "
        f"below {n.share(even)} of the rows; the planner expects {n.share(expected)}{measured}"
    )


def leading_column_missing(n: Numbers, *, pages: float, index: str, rows: float) -> str:
    return f"walks through {n.whole(pages)} pages of {index} for {n.whole(rows)} rows"


def index_scan_discards_most(
    n: Numbers, *, measured: bool, rows: float, indexes: list[str], kept: float
) -> str:
    return (
        f"{tense(measured, 'fetches', 'fetch')} {n.whole(rows)} rows by "
        f"{listed(indexes, ' and ')} to keep {n.whole(kept)}"
    )


def columns_tested_late(n: Numbers, *, columns: list[str], indexes: list[str]) -> str:
    one = len(columns) == 1
    return (
        f"{listed(columns)} {'is' if one else 'are'} tested only after fetching the row: "
        f"{listed(indexes, ' and ')} does not hold {'it' if one else 'them'}"
    )


def tested_late(n: Numbers, *, condition: str) -> str:
    return f'"{condition}" is tested only after fetching the row'


def full_index_scan(n: Numbers, *, measured: bool, entries: float, index: str, kept: float) -> str:
    return (
        f"{tense(measured, 'reads', 'read')} all {n.whole(entries)} entries of {index} to keep "
        f"{n.whole(kept)}"
    )


def missing_covering_index(
    n: Numbers, *, measured: bool, rows: float, pages: float, table: str, columns: list[str]
) -> str:
    return (
        f"{tense(measured, 'fetches', 'fetch')} {n.whole(rows)} rows from {n.whole(pages)} pages "
        f"of {table} for {listed(columns, ' and ')}"
    )


def column_not_in_index(n: Numbers, *, index: str, columns: list[str], pages: float) -> str:
    return (
        f"all else that is asked for stands in {index}; with {listed(columns, ' and ')} in it, "
        f"about {n.whole(pages)} pages of the index alone would do (predicted)"
    )


def index_only_heap_fetches(
    n: Numbers, *, index: str, visits: float, rows: float, table: str
) -> str:
    return (
        f"index-only scan on {index} still fetched {n.whole(visits)} of {n.whole(rows)} rows from "
        f"table {table}"
    )


def pages_not_all_visible(
    n: Numbers,
    *,
    marked: float | None,
    table: str,
    known: bool,
    vacuumed: str | None,
    freed: str = "",
) -> str:
    share = "an unknown part" if marked is None else n.share(marked)
    since = f"; {_vacuumed(vacuumed)}" if known else ""
    return (
        f"only {share} of the pages of {table} are marked all-visible, and these rows lie in "
        f"others; {freed or 'a vacuum'} updates the visibility map{since}"
    )


def lossy_bitmap(n: Numbers, *, coarse: float, pages: float, tested: float) -> str:
    return (
        f"remembers {n.whole(coarse)} of {n.whole(pages)} pages only as a whole, and rechecks "
        f"{n.whole(tested)} rows in vain"
    )


def memory_of_bitmap(n: Numbers, *, limit_bytes: float, setting: str, needed_bytes: float) -> str:
    return (
        f"the bitmap may use {n.mebibytes(limit_bytes, 2)} ({setting}); about "
        f"{n.mebibytes(needed_bytes, 2)} would hold every row (computed)"
    )


def table_bloat(
    n: Numbers, *, measured: bool, pages: float, table: str, rows: float, needed: float
) -> str:
    return (
        f"{tense(measured, 'reads', 'read')} {n.whole(pages)} pages of {table}; its "
        f"{n.whole(rows)} rows need about {n.whole(needed)}"
    )


def dead_rows(n: Numbers, *, dead: float, vacuumed: str | None, compacted: str = "") -> str:
    how = f"{compacted}, which locks it" if compacted else "which locks it"
    return (
        f"{n.whole(dead)} dead rows wait for a vacuum ({_vacuumed(vacuumed)}); space that is free "
        f"already is filled again by new rows, or given back by rewriting the table ({how})"
    )


def _vacuumed(at: str | None) -> str:
    return f"last vacuum: {at}" if at else "it was never vacuumed"


def written_another_way(n: Numbers, *, cost: float, now: float) -> str:
    return (
        f"all rows are read; written another way the plan would cost {n.whole(cost)} in place of "
        f"{n.whole(now)} (estimated by the planner)"
    )


def worded_past_the_index(n: Numbers, *, done: str, query: str) -> str:
    return f"an index is there for the statement with {done}; the new text:  humble propose {query}"


def index_would_avoid_scan(n: Numbers, *, table: str, cost: float, now: float) -> str:
    return (
        f"all rows of {table} are read; with an index the plan would cost {n.whole(cost)} in "
        f"place of {n.whole(now)} (predicted by the planner)"
    )


def planner_would_take(n: Numbers, *, indexes: list[str], beside: list[str], query: str) -> str:
    others = f", beside {listed(beside, ' and ')}" if beside else ""
    return (
        f"the planner would take {listed(indexes, ' and ')}{others}; what is worth building:  "
        f"humble propose {query}"
    )
