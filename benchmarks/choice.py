"""The set chosen under a budget, against what a long randomised search finds; both really built.

The budget is a quarter of the heap. Queries count by their cost, and each the same. The search
is given the same candidates with the same predictions and hundreds of times as many steps; then
both sets are built in a transaction that is rolled back, and what they save is read from the
planner's costs.
"""

from __future__ import annotations

import math
import random
import sys
import tempfile
import time
from collections.abc import Mapping, Sequence
from pathlib import Path

import psycopg
from psycopg import RawCursor

from benchmarks.grounds import NAMES, ground
from humble_ledger.core.remedies.choice.choosing import choose
from humble_ledger.core.remedies.choice.model import Budget, Option, Problem, size_of
from humble_ledger.core.remedies.choice.weights import Weights
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.postgresql.plans.reader import read_plan
from humble_ledger.workflow.begin import begin
from humble_ledger.workflow.configuration import TargetRole
from humble_ledger.workflow.proposing.choosing import Terms, to_choose_from
from humble_ledger.workflow.workspace import Workspace

STEPS = 60_000
PART_OF_HEAP = 0.25


def main(names: Sequence[str] = ()) -> None:
    """Choose, search long, build both, compare."""
    for name in names or NAMES:
        with ground(name) as (url, statements), tempfile.TemporaryDirectory() as folder:
            begin(Path(folder), url, "bench", TargetRole.SCRATCH)
            limit = round(PART_OF_HEAP * heap_bytes(url))
            for weights in (Weights.COST, Weights.EQUALLY):
                with Workspace.find(Path(folder)) as workspace:
                    # What has values of its own can be named by an id only.
                    texts = [s.sql for _, s in statements if not s.values]
                    compare(workspace, url, name, texts, Budget(size_bytes=limit), weights)


def heap_bytes(url: str) -> int:
    """What the tables take without their indexes."""
    with psycopg.connect(url) as connection:
        row = connection.execute(
            "SELECT sum(pg_relation_size(oid)) FROM pg_class WHERE relkind IN ('r', 'm') "
            "AND relnamespace NOT IN ('pg_catalog'::regnamespace, "
            "'information_schema'::regnamespace)"
        ).fetchone()
    return int(row[0]) if row else 0


def compare(
    workspace: Workspace,
    url: str,
    name: str,
    texts: Sequence[str],
    budget: Budget,
    weights: Weights,
) -> None:
    """One ground with one way of weighing."""
    began = time.perf_counter()
    found = to_choose_from(workspace, texts, Terms(budget, weights))
    problem = found.problem
    asked = {each.query: each.asked.statement for each in found.pool.studied}
    chosen = [p.option for p in choose(problem).picked]
    took = time.perf_counter() - began
    best = long_search(problem, random.Random(5))
    whole = sum(q.weight for q in problem.queries)
    real, used = really(url, problem, chosen, asked)
    other, _ = really(url, problem, best, asked)
    print(f"  {name}, by {weights}: {len(problem.options)} candidates, budget "
          f"{(budget.size_bytes or 0) / 1e6:.0f} MB; {len(chosen)} chosen in {took:.0f} s, "
          f"{found.pool.predictor.plans_asked:,} plans asked")  # fmt: skip
    print(f"    saved, really built: {real / whole:.1%} of all weight with "
          f"{used / 1e6:.1f} MB (predicted {size_of(chosen) / 1e6:.1f}), the long search "
          f"{other / whole:.1%}: {real / max(other, 1e-9):.1%} of it; by prediction "
          f"{problem.gain([o.design for o in chosen]) / max(1e-9, problem.gain([o.design for o in best])):.1%}")  # fmt: skip  # noqa: E501


def long_search(problem: Problem, draw: random.Random) -> list[Option]:
    """Simulated annealing over all sets within the budget; the best one seen."""
    options = [o for o in problem.options if problem.fits([o])]
    chosen: list[Option] = []
    now = best = 0.0
    kept: list[Option] = []
    hot = 0.05 * sum(q.weight for q in problem.queries)
    for step in range(STEPS if options else 0):
        warmth = hot * (1 - step / STEPS) ** 3
        new = draw.choice(options)
        other = [o for o in chosen if o is not new] if new in chosen else [*chosen, new]
        while not problem.fits(other):  # make room, anywhere
            other.remove(draw.choice([o for o in other if o is not new]))
        gain = problem.gain([o.design for o in other])
        if gain >= now or (warmth > 0 and draw.random() < math.exp((gain - now) / warmth)):
            chosen, now = other, gain
            if gain > best:
                best, kept = gain, list(other)
    return kept


def really(
    url: str, problem: Problem, chosen: Sequence[Option], asked: Mapping[str, Statement]
) -> tuple[float, int]:
    """Weight that a set saves when it is built, and the bytes that it takes."""
    saved, size = 0.0, 0
    with psycopg.connect(url, prepare_threshold=None) as connection:
        for number, option in enumerate(chosen):
            size += _built(connection, option.design, f"bench_ix{number}")
        for table in {o.design.table for o in chosen if any(k.expression for k in o.design.keys)}:
            connection.execute(f"ANALYZE {table.schema}.{table.name}".encode())
        cursor = RawCursor(connection)
        for query in problem.queries:
            statement = asked[query.query]
            text = b"EXPLAIN (FORMAT JSON, VERBOSE) " + statement.sql.encode()
            row = cursor.execute(text, statement.values or None).fetchone()
            assert row is not None
            cost = read_plan(row[0], "").cost_total or 0.0
            saved += query.weight * (query.cost - cost) / query.cost
        connection.rollback()
    return saved, size


def _built(connection: psycopg.Connection, design: IndexDesign, name: str) -> int:
    connection.execute(design.create_sql(name).encode())
    row = connection.execute(
        "SELECT pg_total_relation_size(%s::regclass)", (f"{design.table.schema}.{name}",)
    ).fetchone()
    return int(row[0]) if row else 0


if __name__ == "__main__":
    main(sys.argv[1:])
