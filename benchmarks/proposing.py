"""Proposing for 200 queries over 40 tables, and choosing among what that gives, in seconds.

Also how near the search comes to the best of all sets on pools small enough to compare them.
"""

from __future__ import annotations

import random
import subprocess
import sys
import tempfile
import time
from itertools import combinations
from pathlib import Path

import psycopg

from humble_ledger.core.remedies.choice.model import Budget, Option, Problem, Weighed
from humble_ledger.core.remedies.choice.searching import searched, upper_bound
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import IndexKey, TableName
from humble_ledger.demo.scenario import scenario_cluster
from humble_ledger.engines.postgresql.launcher import find_binaries

TABLES = 40
QUERIES = 200
ROWS = 20_000
POOLS = 200
COLUMNS = ("place", "kind", "state", "depth", "seen_at")


def statements(seed: int = 7) -> list[str]:
    """Searches, ranges, orders and joins, as applications send them."""
    draw = random.Random(seed)
    made = []
    for n in range(QUERIES):
        table, other = draw.sample(range(TABLES), 2)
        equal = draw.sample(("place", "kind", "state"), draw.randint(1, 2))
        where = " AND ".join(f"a.{column} = {draw.randint(0, 40)}" for column in equal)
        shape = n % 4
        if shape == 0:
            made.append(f"SELECT a.note FROM t{table} a WHERE {where};")
        elif shape == 1:
            made.append(f"SELECT a.note FROM t{table} a WHERE {where} AND a.depth < "
                        f"{draw.randint(5, 90)};")  # fmt: skip
        elif shape == 2:
            made.append(f"SELECT a.id FROM t{table} a WHERE {where} ORDER BY a.seen_at DESC "
                        "LIMIT 20;")  # fmt: skip
        else:
            made.append(f"SELECT a.id, b.note FROM t{table} a JOIN t{other} b ON b.place = a.id "
                        f"WHERE {where};")  # fmt: skip
    return made


def build(url: str) -> None:
    """The tables, each with rows of its own kind."""
    with psycopg.connect(url, autocommit=True) as connection:
        for n in range(TABLES):
            connection.execute(
                f"CREATE TABLE t{n} AS SELECT i AS id, i % {100 + 50 * n} AS place, "
                f"i % {3 + n} AS kind, (i / 7) % {10 + n} AS state, i % 977 AS depth, "
                "timestamptz '2026-01-01' + i * interval '1 minute' AS seen_at, "
                f"md5(i::text) AS note FROM generate_series(1, {ROWS}) i".encode()
            )
            connection.execute(f"ALTER TABLE t{n} ADD PRIMARY KEY (id)".encode())
        connection.execute("ANALYZE")


def timed(folder: Path, *arguments: str) -> float:
    """Seconds that one command of the program takes."""
    start = time.perf_counter()
    subprocess.run(
        [sys.executable, "-m", "humble_ledger", *arguments],
        cwd=folder, check=True, capture_output=True,
    )  # fmt: skip
    return time.perf_counter() - start


def speed() -> None:
    """Capture a script of the statements; propose; choose under a budget."""
    with scenario_cluster(find_binaries()) as cluster, tempfile.TemporaryDirectory() as name:
        url, folder = cluster.url("postgres"), Path(name)
        build(url)
        (folder / "app.sql").write_text("\n".join(statements()))
        timed(folder, "init", url)
        captured = timed(folder, "capture", "script", "app.sql")
        proposed = timed(folder, "propose")
        chosen = timed(folder, "propose", "--budget", "5MB")
    print(f"  {QUERIES} queries, {TABLES} tables: captured in {captured:.1f} s, "
          f"proposed in {proposed:.1f} s, chosen under 5 MB in {chosen:.1f} s")  # fmt: skip


def quality() -> None:
    """Random pools of ten indexes: what the search reaches of the best set, and its bound."""
    draw = random.Random(11)
    reached, bounds = [], []
    for _ in range(POOLS):
        given = pool(draw)
        best = max(
            given.gain([o.design for o in chosen])
            for count in range(len(given.options) + 1)
            for chosen in combinations(given.options, count)
            if given.fits(chosen)
        )
        if best <= 0:
            continue
        found = given.gain([o.design for o in searched(given, given.options)])
        reached.append(found / best)
        bounds.append(found / upper_bound(given))
    exact = sum(r > 0.999999 for r in reached) / len(reached)
    print(f"  {len(reached)} pools, where every set is compared; the search for larger ones "
          f"finds the best of these in {exact:.1%}, at worst "
          f"{min(reached):.1%} of its saving; it claims at least {min(bounds):.0%}")  # fmt: skip


def pool(draw: random.Random) -> Problem:
    """Ten indexes for eight queries; of those that serve one query the best counts."""
    queries = [f"q{n}" for n in range(8)]
    designs = [
        IndexDesign(TableName("public", f"t{n % 3}"), (IndexKey(f"c{n}"),)) for n in range(10)
    ]
    costs = {(d, q): draw.uniform(1, 99) for d in designs for q in draw.sample(queries, 3)}

    def cost(query: str, chosen: frozenset[IndexDesign]) -> float:
        return min([100.0, *(costs[d, query] for d in chosen if (d, query) in costs)])

    sizes = {d: draw.randint(1, 100) for d in designs}
    return Problem(
        tuple(Weighed(q, draw.uniform(1, 1000), 100.0) for q in queries),
        tuple(Option(d, size) for d, size in sizes.items()),
        cost,
        Budget(size_bytes=draw.randint(40, 300)),
    )


def main() -> None:
    """Quality first, then speed."""
    quality()
    speed()


if __name__ == "__main__":
    main()
