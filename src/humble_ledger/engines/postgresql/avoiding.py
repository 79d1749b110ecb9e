"""Other settings for the next statements of a session, as to forbid the planner a method."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager

from humble_ledger.core.routes.exploring import Method
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated

# Each method's setting. Memoize came with version 14; before, no plan rests on it.
_SETTINGS: Mapping[Method, tuple[str, str]] = {
    Method.FULL_SCAN: ("enable_seqscan", "off"),
    Method.INDEX_SCAN: ("enable_indexscan", "off"),
    Method.INDEX_ONLY_SCAN: ("enable_indexonlyscan", "off"),
    Method.BITMAP_SCAN: ("enable_bitmapscan", "off"),
    Method.NESTED_LOOP: ("enable_nestloop", "off"),
    Method.HASH_JOIN: ("enable_hashjoin", "off"),
    Method.MERGE_JOIN: ("enable_mergejoin", "off"),
    Method.SORT: ("enable_sort", "off"),
    Method.INCREMENTAL_SORT: ("enable_incremental_sort", "off"),
    Method.HASHED_GROUPS: ("enable_hashagg", "off"),
    Method.MATERIALIZE: ("enable_material", "off"),
    Method.MEMOIZE: ("enable_memoize", "off"),
    Method.PARALLEL: ("max_parallel_workers_per_gather", "0"),
}


def avoiding(connection: Connection, methods: Iterable[Method]) -> AbstractContextManager[None]:
    """Plan without these methods inside the block."""
    return under(connection, [_SETTINGS[method] for method in methods])


@contextmanager
def under(connection: Connection, settings: Sequence[tuple[str, str]]) -> Iterator[None]:
    """Settings inside the block; the session's own come back."""
    if not settings:
        yield
        return
    names, values = [name for name, _ in settings], [value for _, value in settings]
    with translated():
        row = connection.execute(
            "SELECT array_agg(current_setting(name)) FROM unnest(%s::text[]) AS name", (names,)
        ).fetchone()
        assert row is not None
        _set(connection, names, values)
    try:
        yield
    finally:
        with translated():
            _set(connection, names, row[0])


@contextmanager
def timeout(connection: Connection, milliseconds: int | None) -> Iterator[None]:
    """Another statement time-out inside the block, when one is given."""
    wanted = [] if milliseconds is None else [("statement_timeout", str(milliseconds))]
    with under(connection, wanted):
        yield


def _set(connection: Connection, names: list[str], values: list[str]) -> None:
    connection.execute(
        "SELECT set_config(name, value, false) "
        "FROM unnest(%s::text[], %s::text[]) AS given (name, value)",
        (names, values),
    )
