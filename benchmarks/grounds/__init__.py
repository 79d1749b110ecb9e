"""Schemas and statements to try the program on: the demo, and two that are unlike it.

A retail warehouse with analytic statements, and an application of many tenants as an object
mapper writes it.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import psycopg

from benchmarks.grounds.auction import AUCTION
from benchmarks.grounds.bikes import BIKES
from benchmarks.grounds.harbour import HARBOUR
from benchmarks.grounds.library import LIBRARY
from benchmarks.grounds.water import WATER
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.tokens import split_statements
from humble_ledger.demo.scenario import build_scenario, scenario_cluster
from humble_ledger.demo.workload import PLACEHOLDER, load_workload
from humble_ledger.engines.postgresql.launcher import Cluster, find_binaries

GROUNDS = Path(__file__).parent
NAMES = ("demo", "warehouse", "tenants")
_OF_ANOTHER = {"bookings": "tenants"}  # grounds with the schema of another one


@contextmanager
def ground(name: str) -> Iterator[tuple[str, list[tuple[str, Statement]]]]:
    """A server with one of them: its address, and its statements."""
    if name == "demo":
        with scenario_cluster(find_binaries()) as cluster:
            yield build_scenario(cluster), demo_statements()
        return
    with Cluster(find_binaries()) as cluster:
        with psycopg.connect(cluster.url("postgres"), autocommit=True) as server:
            server.execute(f"CREATE DATABASE {name}".encode())
        with psycopg.connect(cluster.url(name), autocommit=True) as server:
            server.execute((GROUNDS / f"{_OF_ANOTHER.get(name, name)}.sql").read_bytes())
        with psycopg.connect(cluster.url(name), autocommit=True) as server:
            server.execute("VACUUM ANALYZE")
        yield cluster.url(name), ground_statements(name)


def ground_statements(name: str) -> list[tuple[str, Statement]]:
    """The statements of a ground, numbered; one for findings alone has none.

    Those of the harbour, the auction house, the bicycles, the waterworks and the library are their
    cases, as far as they read.
    """
    cases = {
        "harbour": HARBOUR, "auction": AUCTION, "bikes": BIKES, "water": WATER, "library": LIBRARY,
    }.get(name)  # fmt: skip
    if cases is not None:
        return [(c.name, Statement(c.sql)) for c in cases if c.sql.startswith(("SELECT", "WITH"))]
    if not (GROUNDS / f"{name}-queries.sql").exists():
        return []
    texts = split_statements((GROUNDS / f"{name}-queries.sql").read_text())
    return [(f"{number:02d}", Statement(text)) for number, text in enumerate(texts, 1)]


def demo_statements() -> list[tuple[str, Statement]]:
    """The demo's, as its application sends them: bound by the server, or written into the text."""
    found = []
    for each in load_workload():
        values = each.value_sets[0] if each.value_sets else (1,)
        texts = tuple(str(v) for v in values)
        if each.prepared:
            found.append((each.name[:2], Statement(each.sql, texts)))
            continue
        filled = PLACEHOLDER.sub(lambda m: _literal(values[int(m[1]) - 1]), each.sql)  # noqa: B023
        found.append((each.name[:2], Statement(filled)))
    return found


def _literal(value: object) -> str:
    return str(value) if isinstance(value, int | float) else f"'{value}'"
