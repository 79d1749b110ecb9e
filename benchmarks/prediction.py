"""Predicted against real cost and size, after really building each candidate.

Four grounds: the demo, a retail warehouse with analytic statements, an application of many tenants
as an object mapper writes it, and a harbour, where most statements miss an index. Every candidate
for their statements is built in a transaction that is rolled back, and each statement that reads
its table is explained with it. Both ways of predicting are held against that: the planner on a
hollow, and the formula.

Give grounds by name to try only these, as in `python -m benchmarks.prediction warehouse`; the
variable HUMBLE_BENCH_URL names a database with the demo's scenario in place of all.
"""

from __future__ import annotations

import os
import statistics
import sys
import time
from collections.abc import Sequence
from dataclasses import dataclass

import psycopg
from psycopg import RawCursor

from benchmarks.grounds import NAMES, demo_statements, ground
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.accesses import accesses
from humble_ledger.core.remedies.candidates.model import IndexAbilities
from humble_ledger.core.remedies.candidates.registry import candidates
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.prediction.contract import Asked, Predictor
from humble_ledger.core.remedies.prediction.formula import FormulaPredictor
from humble_ledger.core.remedies.prediction.planned import PlannedPredictor
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.core.statements.constants import Constants
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.engine import PostgresEngine
from humble_ledger.engines.postgresql.plans.reader import read_plan
from humble_ledger.engines.postgresql.session import PostgresSession
from humble_ledger.workflow.reading.plans import table_names
from humble_ledger.workflow.supposing.planner import HollowPlanner

NAME = "bench_ix"
WORST = 5


@dataclass(frozen=True)
class Query:
    """One statement with its plan as it is."""

    name: str
    asked: Asked

    @property
    def tables(self) -> set[object]:
        """The tables that it reads."""
        return {access.table.name for access in self.asked.accesses}


@dataclass(frozen=True)
class Pair:
    """A query with an index: predicted and real cost, and whether the real plan uses it."""

    query: str
    design: str
    now: float
    predicted: float
    real: float
    used: bool
    same_shape: bool

    @property
    def ratio(self) -> float:
        """Predicted as a multiple of real."""
        return self.predicted / max(self.real, 0.01)

    @property
    def missed(self) -> bool:
        """Whether a gain of at least twice is there, and the prediction is off by twice or more."""
        return self.now >= 2 * self.real and self.ratio >= 2

    @property
    def false(self) -> bool:
        """Whether a gain of at least twice was promised, and is not half of that."""
        return self.now >= 2 * self.predicted and self.ratio <= 0.5


def main(names: Sequence[str] = ()) -> None:
    """Build, explain, compare; on servers of its own, or on HUMBLE_BENCH_URL."""
    url = os.environ.get("HUMBLE_BENCH_URL")
    if url:
        compare(url, demo_statements())
        return
    for name in names or (*NAMES, "harbour"):
        print(f"  {name}")
        with ground(name) as (place, found):
            compare(place, found)


def compare(url: str, statements: list[tuple[str, Statement]]) -> None:
    """Print both ways of predicting beside what was really found."""
    session = PostgresSession(url, Limits())
    queries, tables, designs = study(session, statements)
    began = time.perf_counter()
    with PostgresEngine().connect(url).hollow() as hollow:
        made = time.perf_counter() - began
        formula = FormulaPredictor(session.costs, session)
        planned = PlannedPredictor(HollowPlanner(hollow), formula, session.costs, tables=tables)
        same = [(planned.planner.plan(q.asked.statement, {}), q.asked.plan) for q in queries]
        exact = sum(a is not None and a.cost_total == b.cost_total for a, b in same)
        print(f"    hollow made in {made:.1f} s; with nothing supposed {exact} of {len(same)} "
              "plans cost exactly the same")  # fmt: skip
        real = {d: really(url, d, _touched(queries, d)) for d in designs}
        for title, predictor in (("planner", planned), ("formula", formula)):
            began = time.perf_counter()
            pairs = _pairs(queries, real, predictor)
            report(title, pairs, time.perf_counter() - began)
        sizes = [
            (formula.shape(d, tables[d.table]).size_bytes(8192) / size, d.words)
            for d, (_, size) in real.items()
        ]
        _report_sizes(sizes)
        for caution in planned.cautions:
            print(f"    caution: {caution}")
    session.close()


def _pairs(
    queries: list[Query],
    real: dict[IndexDesign, tuple[dict[str, tuple[float, Plan]], int]],
    predictor: Predictor,
) -> list[Pair]:
    pairs = []
    for design, (found, _) in real.items():
        for query in _touched(queries, design):
            if query.name not in found:
                continue
            cost, plan = found[query.name]
            outlook = predictor.outlook(query.asked, [design])
            same = True
            if isinstance(predictor, PlannedPredictor):
                other = predictor.plan(query.asked, [design])
                same = other is not None and _shape(other) == _shape(plan)
            used = plan.uses_index(NAME)
            pairs.append(
                Pair(query.name, design.words, outlook.cost_before, outlook.cost, cost, used, same)
            )
    return pairs


def _shape(plan: Plan) -> list[tuple[str, str]]:
    return [(node.label, node.relation) for node in plan.nodes()]


def _touched(queries: list[Query], design: IndexDesign) -> list[Query]:
    return [q for q in queries if design.table in q.tables]


def report(title: str, pairs: list[Pair], took_s: float) -> None:
    """The figures of one way of predicting, and its worst pairs."""
    used = [p for p in pairs if p.used]
    ratios = [p.ratio for p in used]
    gains = [p for p in pairs if p.now >= 2 * p.real]
    promises = [p for p in pairs if p.now >= 2 * p.predicted]

    def within(share: float) -> str:
        near = sum(1 - share <= r <= 1 + share for r in ratios)
        return f"{near} within {share:.0%} ({near / max(1, len(ratios)):.1%})"

    print(f"    {title}: {len(pairs)} pairs in {took_s:.0f} s, {len(used)} used: {within(0.05)}, "
          f"{within(0.25)}, median {statistics.median(ratios or [1]):.4f}×")  # fmt: skip
    print(f"      missed {sum(p.missed for p in pairs)} of {len(gains)} real gains of twice, "
          f"false {sum(p.false for p in pairs)} of {len(promises)} promises; other shape of plan "
          f"{sum(not p.same_shape for p in pairs)}")  # fmt: skip
    worst = sorted(
        (p for p in pairs if p.used or p.false), key=lambda p: max(p.ratio, 1 / max(p.ratio, 1e-9))
    )
    for pair in worst[: -WORST - 1 : -1]:
        if not 0.95 <= pair.ratio <= 1.05:
            print(f"      {pair.ratio:6.3f}×  {pair.query}  {pair.design}  now {pair.now:,.0f} "
                  f"predicted {pair.predicted:,.1f} real {pair.real:,.1f}"
                  f"{'' if pair.used else ' (not used)'}")  # fmt: skip


def _report_sizes(sizes: list[tuple[float, str]]) -> None:
    off = sorted(abs(ratio - 1) for ratio, _ in sizes)
    print(f"    sizes of {len(sizes)} indexes: off by {statistics.median(off):.1%} in the median, "
          f"{off[int(len(off) * 0.95)]:.1%} at the 95th percentile")  # fmt: skip
    for ratio, words in sorted(sizes, key=lambda s: abs(s[0] - 1), reverse=True)[:WORST]:
        print(f"      {ratio:6.3f}×  {words}")


def study(
    session: PostgresSession, statements: list[tuple[str, Statement]]
) -> tuple[list[Query], dict[object, TableFacts], list[IndexDesign]]:
    """The plans of the statements, the facts of their tables, and every candidate."""
    queries, tables, designs = [], {}, {}
    for name, statement in statements:
        plan = session.explain(statement).plan
        known = session.tables(table_names(plan))
        tables |= known
        queries.append(Query(name, Asked(statement, plan, tuple(accesses(plan, known)))))
        constants = Constants.of_text(statement.sql)
        means = IndexAbilities(constants.always, session.is_immutable, session.operator_classes())
        for candidate in candidates(plan, known, means):
            designs.setdefault(candidate.design, None)
    return queries, tables, sorted(designs, key=lambda design: design.words)


def really(
    url: str, design: IndexDesign, queries: list[Query]
) -> tuple[dict[str, tuple[float, Plan]], int]:
    """Build the index, plan the queries with it, and take it back; the costs, and its bytes."""
    found = {}
    with psycopg.connect(url, prepare_threshold=None) as connection:
        connection.execute(design.create_sql(NAME).encode())
        if any(key.expression for key in design.keys):
            # As a trial does: until then the server knows nothing of an expression's values.
            connection.execute(f"ANALYZE {design.table.schema}.{design.table.name}".encode())
        cursor = RawCursor(connection)
        for query in queries:
            statement = query.asked.statement
            text = b"EXPLAIN (FORMAT JSON, VERBOSE) " + statement.sql.encode()
            row = cursor.execute(text, statement.values or None).fetchone()
            assert row is not None
            plan = read_plan(row[0], "")
            found[query.name] = (plan.cost_total or 0.0, plan)
        place = f"{design.table.schema}.{NAME}"
        size = connection.execute("SELECT pg_relation_size(%s::regclass)", (place,)).fetchone()
        connection.rollback()
    return found, int(size[0]) if size else 0


if __name__ == "__main__":
    main(sys.argv[1:])
