"""A ledger of 100,000 queries, a million runs and 20,000 plans: how long its commands take.

Once in a file, and once on a PostgreSQL server of our own, as a team has it.
The bounds are 0.5 s beyond start-up for `queries`, `history` and `show`, and 20 s for a report of
500 queries. Then writers are killed 200 times, and what they said to be saved is looked for.
"""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory

from tests.ledger.kills import killed_at_random

from humble_ledger.core.plans.model import Cost, Elapsed, Node, Operation, Plan
from humble_ledger.core.statements.wording import HOLE
from humble_ledger.core.workload.durations import bucket_of, pack
from humble_ledger.engines.postgresql.launcher import Cluster, find_binaries
from humble_ledger.ledger import tables as t
from humble_ledger.ledger import usages
from humble_ledger.ledger.bodies import encoded
from humble_ledger.ledger.repository import Ledger
from humble_ledger.ledger.store.place import place_of
from humble_ledger.ledger.store.sql import insert_many, move_ids_on

QUERIES, RUNS, PLANS = 100_000, 1_000_000, 20_000
AT = "2026-03-02T10:{:02}:00.000+00:00"
ROUNDS = 3


def _plan(number: int) -> Plan:
    scan = Node(
        3, Operation.FULL_SCAN, "Seq Scan", relation=f"t{number % 90}", cost=Cost(0, 900.0),
        rows_expected=10, rows_seen=9, loops=1, elapsed=Elapsed(0, 3.0),
    )  # fmt: skip
    join = Node(
        2, Operation.HASH_JOIN, "Hash Join", cost=Cost(0, 950.0), rows_expected=10, rows_seen=9,
        loops=1, elapsed=Elapsed(0, 3.5), children=(scan,),
    )  # fmt: skip
    root = Node(
        1, Operation.SORT, "Sort", cost=Cost(0, 1_000.0 + number), rows_expected=10, rows_seen=9,
        loops=1, elapsed=Elapsed(0, 4.0), children=(join,),
    )  # fmt: skip
    return Plan("postgresql", "18.6", root, measured=True, execution_ms=4.0)


def fill(place: str, folder: Path) -> None:
    """Make the ledger, as captures and plans of many days would have."""
    ledger = Ledger(place_of(place, folder), create=True)
    with ledger.store.writing() as c:
        insert_many(c, t.captures, ("id", "at", "source", "place", "kept", "body"), [
            (1, AT.format(0), "log", "server.log", RUNS,
             b'{"lines":1,"passed_over":{},"queries":1,"new_queries":1}')])  # fmt: skip
        insert_many(c, t.clients, ("id", "user", "database", "application"),
                    [(1, "me", "shop", "web")])  # fmt: skip
        insert_many(c, t.queries, ("id", "at", "fingerprint", "text", "tables", "cost"), (
            (n, AT.format(0), f"{n:016x}",
             f"SELECT a{n}, b, c FROM t{n % 90} JOIN u ON u.id = t{n % 90}.u WHERE x = $1 AND "
             f"y > $2 ORDER BY z{n % 7} LIMIT $3", '["public.t"]', 10.0 + n)
            for n in range(1, QUERIES + 1)))  # fmt: skip
        insert_many(c, t.wordings, ("id", "query_id", "text"), (
            (n, n, f"SELECT a{n}, b, c FROM t{n % 90} WHERE x = {HOLE}")
            for n in range(1, QUERIES + 1)
        ))  # fmt: skip
        per = RUNS // QUERIES
        insert_many(
            c, t.runs, ("query_id", "capture_id", "wording_id", "client_id", "started_at",
                        "duration_ms", "rows", "literals", "parameters", "session"),
            ((1 + n // per, 1, 1 + n // per, 1, AT.format(n % 60), 1.0 + n % 977, 3, '["7"]', "[]",
              "9") for n in range(RUNS)))  # fmt: skip
        insert_many(
            c, t.periods, ("query_id", "capture_id", "client_id", "first_at", "last_at", "calls",
                           "timed", "total_ms", "squares_ms2", "max_ms", "durations", "work"),
            ((n, 1, 1, AT.format(n % 60), AT.format(n % 60), per, per, per * (1.0 + n % 977),
              per * (1.0 + n % 977) ** 2, 1.0 + n % 977,
              pack({bucket_of(1.0 + n % 977): per}), None)
             for n in range(1, QUERIES + 1)))  # fmt: skip
        insert_many(
            c, t.plans, ("query_id", "at", "statement", "parameters", "origin", "measured", "cost",
                         "body", "document"),
            ((1 + n * 5, AT.format(1), "SELECT 1", "[]", "read", 1, 9.0, encoded(_plan(n)), b"{}")
             for n in range(PLANS)))  # fmt: skip
        insert_many(c, t.events, ("at", "subject", "words", "person", "machine"), (
            (AT.format(1), f"q{n}", "first seen", "me", "here") for n in range(1, QUERIES + 1)
        ))  # fmt: skip
        usages.rebuild(c)
        for table in (t.captures, t.clients, t.queries, t.wordings):
            move_ids_on(c, table, QUERIES)
    ledger.close()


def _with_little() -> float:
    """What a command takes on a ledger of one query: loading the program and its packages."""
    with TemporaryDirectory() as name:
        with Ledger(Path(name) / "humble.ledger", create=True) as ledger:
            ledger.queries.keep("SELECT 1")
        return _seconds(Path(name), "history")


def _seconds(folder: Path, *arguments: str) -> float:
    best = float("inf")
    for _ in range(ROUNDS):
        begun = time.perf_counter()
        subprocess.run(
            [str(Path(sys.executable).parent / "humble"), *arguments], cwd=folder, check=False,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        best = min(best, time.perf_counter() - begun)
    return best


def main() -> None:
    """Print what each command takes beyond start-up, for both kinds of ledger."""
    print("in a file")
    _measure("humble.ledger")
    print("on a server")
    with Cluster(find_binaries()) as cluster:
        _measure(cluster.url("postgres"))


def _measure(place: str) -> None:
    with TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "humble.toml").write_text(f'ledger = "{place}"\n')
        begun = time.perf_counter()
        fill(place, folder)
        took = time.perf_counter() - begun
        start = _seconds(folder, "glossary", "cost")
        opening = _with_little()
        with Ledger(place_of(place, folder)) as ledger:
            size = ledger.store.size_bytes() / 1024**2
        print(f"  ledger of {size:,.0f} MiB, filled in {took:.0f} s; start-up {start:.2f} s, "
              f"with loading a store {opening:.2f} s")  # fmt: skip
        for arguments in (
            ("queries",), ("queries", "--by", "p95", "--top", "20"), ("history",), ("show", "q501"),
            ("show", "p77"), ("ledger", "check"), ("report", "--top", "500"),
        ):  # fmt: skip
            took = _seconds(folder, *arguments)
            print(
                f"  {' '.join(arguments):28} {took - start:6.2f} s beyond start-up, "
                f"{took - opening:6.2f} s beyond what it takes with one query"
            )
        report = folder / "report.html"
        print(f"  the report has {report.stat().st_size / 1e6:.1f} MB")
        other = f"{place}&schema=killed" if "://" in place else str(folder / "killed.ledger")
        said, wrong = killed_at_random(other, rounds=200, seed=1)
        print(f"  200 kills of two writers: {said:,} entries said to be saved, {len(wrong)} wrong")
        for each in wrong[:5]:
            print(f"    {each}")
