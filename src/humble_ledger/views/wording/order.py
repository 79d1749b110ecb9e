"""Rows put in order, paged through, and kept in memory or on disk."""

from __future__ import annotations

from humble_ledger.views.numbers import Numbers
from humble_ledger.views.wording.parts import listed, tense


def sort_without_index(
    n: Numbers, *, measured: bool, rows: float, table: str, wanted: float, keys: list[str]
) -> str:
    return f"{tense(measured, 'sorts', 'sort')} {n.whole(rows)} rows of {table} by {listed(keys)}"


def top_n_without_index(
    n: Numbers, *, measured: bool, rows: float, table: str, wanted: float, keys: list[str]
) -> str:
    return (
        f"{tense(measured, 'looks', 'look')} at {n.whole(rows)} rows of {table} to give the first "
        f"{n.whole(wanted)} by {listed(keys)}"
    )


def directions_differ(n: Numbers, *, index: str, cost: float, now: float) -> str:
    return f"{index} has these columns, but not with these directions; {_in_order(n, cost, now)}"


def no_index_in_this_order(
    n: Numbers, *, table: str, columns: list[str], cost: float, now: float
) -> str:
    return f"no index of {table} has its rows by {listed(columns)}; {_in_order(n, cost, now)}"


def _in_order(n: Numbers, cost: float, now: float) -> str:
    return f"in order it would cost {n.whole(cost)} against {n.whole(now)} (predicted)"


def index_avoids_sort(
    n: Numbers, *, table: str, columns: list[str], cost: float, now: float
) -> str:
    return (
        f"an index on {table} ({listed(columns)}) would avoid the sort: {n.whole(cost)} against "
        f"{n.whole(now)} (predicted cost)"
    )


def top_n_of_groups(
    n: Numbers,
    *,
    measured: bool,
    numbers: bool,
    rows: float,
    table: str,
    most: int,
    groups: float,
) -> str:
    first = "the first" if most == 1 else f"at most the first {n.whole(most)}"
    verb = tense(measured, "numbers", "number") if numbers else tense(measured, "sorts", "sort")
    return (
        f"{verb} {n.whole(rows)} rows of {table} to keep {first} of each of about "
        f"{n.whole(groups)} groups"
    )


def groups_read_whole(
    n: Numbers,
    *,
    numbers: bool,
    most: int,
    table: str,
    columns: list[str],
    cost: float,
    now: float,
) -> str:
    return (
        f"no row is left out before {'it is numbered' if numbers else 'all are sorted'}; fetched "
        f"group by group (LATERAL with LIMIT {n.whole(most)}) through an index on {table} "
        f"({listed(columns)}) they would cost {n.whole(cost)} against {n.whole(now)} (predicted)"
    )


def deep_paging(n: Numbers, *, measured: bool, made: float, given: float) -> str:
    return (
        f"{tense(measured, 'produces', 'produce')} {n.whole(made)} rows to give the last "
        f"{n.whole(given)} of them"
    )


def offset_skips_rows(n: Numbers, *, keys: list[str]) -> str:
    return (
        "OFFSET reads the rows it skips; a page that starts after the last row seen "
        f"({listed(keys) or 'the order'} compared with its values) needs none of them"
    )


def sort_spills(n: Numbers, *, rows: float, spilled_bytes: float) -> str:
    spilled = n.fixed(spilled_bytes / 1024 / 1024, 1)
    return f"sorts {n.whole(rows)} rows through {spilled} MiB of temporary files"


def sort_will_spill(n: Numbers, *, rows: float) -> str:
    return f"will sort {n.whole(rows)} rows, more than fit in memory"


def hash_spills(n: Numbers, *, joins: bool, rows: float, batches: int, expected: int) -> str:
    more = f" ({expected} expected)" if expected != batches else ""
    return (
        f"{'joins' if joins else 'groups'} {n.whole(rows)} rows in {batches} parts{more}, through "
        "temporary files"
    )


def materialize_spills(n: Numbers, *, rows: float, written_bytes: float) -> str:
    written = n.fixed(written_bytes / 1024 / 1024, 1)
    return f"keeps {n.whole(rows)} rows in {written} MiB of temporary files"


def memory_of_sort(
    n: Numbers,
    *,
    limit_bytes: float | None,
    setting: str,
    needed_bytes: float,
    instead: str | None,
) -> str:
    needed = n.whole(needed_bytes / 1024 / 1024)
    return (
        f"{_allowed(n, 'the sort', limit_bytes, setting)}; about {needed} MiB would hold it "
        f"(estimated){f'; or {instead}' if instead else ''}"
    )


def memory_of_hash(
    n: Numbers, *, limit_bytes: float | None, setting: str, needed_bytes: float
) -> str:
    return (
        f"{_allowed(n, 'the hash', limit_bytes, setting)}; about {n.mebibytes(needed_bytes)} "
        "would hold it (estimated)"
    )


def memory_of_kept_rows(n: Numbers, *, limit_bytes: float | None, setting: str) -> str:
    return _allowed(n, "what is kept to be read again", limit_bytes, setting)


def _allowed(n: Numbers, what: str, limit_bytes: float | None, setting: str) -> str:
    if limit_bytes is None:
        return f"{what} did not fit into {setting}"
    return f"{what} may use {n.mebibytes(limit_bytes)} ({setting})"
