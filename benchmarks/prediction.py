"""Predicted against real cost and size, after really building each candidate of the demo.

Every candidate that is proposed or considered for the demo's queries is built in a transaction
that is rolled back, and each query that reads its table is explained with it.
"""

from __future__ import annotations

import os
import statistics
from dataclasses import dataclass

import psycopg
from psycopg import RawCursor

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.accesses import accesses
from humble_ledger.core.remedies.candidates.model import Access, IndexAbilities
from humble_ledger.core.remedies.candidates.registry import candidates
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.prediction.formula import FormulaPredictor
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.core.statements.constants import Constants
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.demo.scenario import build_scenario, scenario_cluster
from humble_ledger.demo.workload import PLACEHOLDER, load_workload
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.launcher import find_binaries
from humble_ledger.engines.postgresql.session import PostgresSession
from humble_ledger.workflow.reading.plans import table_names

NAME = "bench_ix"
WORST = 8


@dataclass(frozen=True)
class Query:
    """One statement of the workload with its plan as it is."""

    name: str
    statement: Statement
    plan: Plan
    accesses: tuple[Access, ...]


@dataclass(frozen=True)
class Pair:
    """A query with an index: predicted and real cost."""

    query: str
    design: str
    now: float
    predicted: float
    real: float
    used: bool

    @property
    def ratio(self) -> float:
        """Predicted over real."""
        return self.predicted / self.real


def main() -> None:
    """Build, explain, compare; on a server of its own, or on HUMBLE_BENCH_URL."""
    url = os.environ.get("HUMBLE_BENCH_URL")
    if url:
        compare(url)
        return
    with scenario_cluster(find_binaries()) as cluster:
        compare(build_scenario(cluster))


def compare(url: str) -> None:
    """Print medians, spread and the worst pairs."""
    session = PostgresSession(url, Limits())
    queries, tables, designs = study(session)
    predictor = FormulaPredictor(session.costs, session)
    pairs: list[Pair] = []
    sizes: list[tuple[float, str]] = []
    for design in designs:
        table = tables[design]
        touched = [q for q in queries if any(a.table.name == design.table for a in q.accesses)]
        real, size = really(url, design, touched)
        predicted_size = predictor.shape(design, table).size_bytes(table.page_bytes)
        sizes.append((predicted_size / size, design.words))
        for query in touched:
            outlook = predictor.outlook(query.plan, query.accesses, [design])
            cost, used = real[query.name]
            pairs.append(
                Pair(query.name, design.words, outlook.cost_before, outlook.cost, cost, used)
            )
    session.close()
    told = [p for p in pairs if p.used or p.predicted < 0.999 * p.now]
    report("cost, where the index is used or predicted to be", told)
    report("cost, all pairs", pairs)
    ratios = [ratio for ratio, _ in sizes]
    near = sum(0.9 <= r <= 1.1 for r in ratios) / len(ratios)
    off = statistics.median(abs(r - 1) for r in ratios)
    print(f"  size: {len(ratios)} indexes, median {statistics.median(ratios):.3f}×, "
          f"median distance {off:.1%}, {near:.0%} within 10 %")  # fmt: skip
    for ratio, words in sorted(sizes, key=lambda s: abs(s[0] - 1), reverse=True)[:5]:
        print(f"    {ratio:6.3f}×  {words}")


def report(title: str, pairs: list[Pair]) -> None:
    """The figures of some pairs, and the worst of them."""
    ratios = [p.ratio for p in pairs]
    near = sum(0.75 <= r <= 1.25 for r in ratios) / len(ratios)
    print(f"  {title}: {len(pairs)} pairs, median {statistics.median(ratios):.4f}×, "
          f"{near:.0%} within 25 %")  # fmt: skip
    for pair in sorted(pairs, key=lambda p: max(p.ratio, 1 / p.ratio), reverse=True)[:WORST]:
        print(f"    {pair.ratio:6.3f}×  {pair.query}  {pair.design}  "
              f"now {pair.now:,.0f} predicted {pair.predicted:,.1f} real {pair.real:,.1f}"
              f"{'' if pair.used else ' (not used)'}")  # fmt: skip


def study(
    session: PostgresSession,
) -> tuple[list[Query], dict[IndexDesign, TableFacts], list[IndexDesign]]:
    """The workload's plans, and every candidate with its table."""
    queries, tables = [], {}
    for each in load_workload():
        values = each.value_sets[0] if each.value_sets else (1,)
        # As its application sends it: bound by the server, or written into the text.
        statement = (
            Statement(each.sql, tuple(str(v) for v in values))
            if each.prepared
            else Statement(PLACEHOLDER.sub(lambda m: literal(values[int(m[1]) - 1]), each.sql))  # noqa: B023
        )
        plan = session.explain(statement).plan
        known = session.tables(table_names(plan))
        found = tuple(accesses(plan, known))
        queries.append(Query(each.name[:2], statement, plan, found))
        constants = Constants.of_text(statement.sql)
        means = IndexAbilities(constants.always, session.lasting, session.operator_classes())
        for candidate in candidates(plan, known, means):
            tables.setdefault(candidate.design, candidate.access.table)
    return queries, tables, sorted(tables, key=lambda design: design.words)


def literal(value: object) -> str:
    """A value as it stands in a statement's text."""
    return str(value) if isinstance(value, int | float) else "'" + str(value) + "'"


def really(
    url: str, design: IndexDesign, queries: list[Query]
) -> tuple[dict[str, tuple[float, bool]], int]:
    """Build it, explain each query, roll back: (cost, used) by query, and the size in bytes."""
    found = {}
    with psycopg.connect(url, prepare_threshold=None) as connection:
        connection.execute(design.create_sql(NAME).encode())
        if any(key.expression for key in design.keys):
            connection.execute(f"ANALYZE {design.table.name}".encode())
        for query in queries:
            cursor = RawCursor(connection)
            cursor.execute(
                b"EXPLAIN (FORMAT JSON) " + query.statement.sql.encode(), query.statement.values
            )
            row = cursor.fetchone()
            assert row is not None
            root = row[0][0]["Plan"]
            found[query.name] = (root["Total Cost"], NAME in str(root))
        row = connection.execute("SELECT pg_relation_size(%s)", (NAME,)).fetchone()
        connection.rollback()
    assert row is not None
    return found, row[0]


if __name__ == "__main__":
    main()
