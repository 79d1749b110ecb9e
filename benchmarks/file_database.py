"""SQLite: what is found on a schema the rules were not written on, and what predictions are worth.

Three questions on the ferry office: how many planted troubles `diagnose` finds and what it says of
statements that are well; what each candidate index is predicted to do, against the plan with the
index really built in a copy; and how far our costs, as SQLite has none, go with the time.
"""

from __future__ import annotations

import math
import statistics
import tempfile
from pathlib import Path

from benchmarks.findings import Judged, humble, report, told
from benchmarks.grounds.ferry import CASES, made
from humble_ledger.core.remedies.candidates.accesses import accesses
from humble_ledger.core.remedies.candidates.model import IndexAbilities
from humble_ledger.core.remedies.candidates.registry import candidates
from humble_ledger.core.remedies.prediction.contract import Asked
from humble_ledger.core.remedies.prediction.formula import FormulaPredictor
from humble_ledger.core.remedies.prediction.planned import PlannedPredictor
from humble_ledger.core.routes.exploring import shape_of
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Change, ExplainOptions, Limits, NewIndex
from humble_ledger.engines.sqlite.engine import SqliteEngine
from humble_ledger.engines.sqlite.session import SqliteSession
from humble_ledger.workflow.reading.plans import table_names
from humble_ledger.workflow.supposing.planner import HollowPlanner

NEAR = 1.05
SHORTEST_MS = 0.3


def main() -> None:
    """Print the three answers."""
    with tempfile.TemporaryDirectory() as folder:
        path = made(Path(folder) / "ferry.db")
        findings(path, Path(folder))
        session = SqliteEngine().connect(str(path), Limits(statement_ms=20_000)).session()
        predictions(path, session)
        times(session)
        session.close()


def findings(path: Path, folder: Path) -> None:
    """Recall and false alarms."""
    humble(str(folder), "init", str(path), "--role", "scratch")
    judged = [Judged(case, told(humble(str(folder), "diagnose", case.sql, "--json")))
              for case in CASES]  # fmt: skip
    report("ferry", judged)


def predictions(path: Path, session: SqliteSession) -> None:
    """Every candidate for every statement, built in a copy, against what was predicted."""
    engine = SqliteEngine()
    formula = FormulaPredictor(session.costs, session)
    found: list[tuple[float, bool, float, str]] = []
    sizes = []
    with engine.connect(str(path), Limits()).hollow() as hollow:
        planner = HollowPlanner(hollow)
        predictor = PlannedPredictor(planner, formula, session.costs)
        for case in CASES:
            statement = Statement(case.sql)
            plan = session.explain(statement).plan
            tables = session.tables(table_names(plan))
            means = IndexAbilities(
                is_immutable=session.is_immutable,
                methods=engine.dialect.methods,
                includes=False,
                more=engine.plans.candidates,
            )
            asked = Asked(statement, plan, tuple(accesses(plan, tables)))
            for number, candidate in enumerate(candidates(plan, tables, means)):
                design = candidate.design
                supposed = predictor.plan(asked, [design])
                if supposed is None:
                    continue
                name = f"bench_{number}"
                sql = design.create_sql(name)
                change = Change((NewIndex("", name, sql, sql, f"DROP INDEX {name}"),))
                with engine.connect(str(path), Limits(), "bench").experiment(change) as experiment:
                    real = experiment.after.explain(statement, measure=False).plan
                    size = experiment.builds[0].size_bytes
                shape = predictor.shape(design, tables[design.table])
                sizes.append(shape.pages * tables[design.table].page_bytes / max(1, size))
                ratio = (supposed.cost_total or 1.0) / max(1.0, real.cost_total or 1.0)
                named = {next(iter(hollow.names({design: shape}))): name}
                same = _shape(supposed, named) == _shape(real, {})
                gain = (plan.cost_total or 1.0) / max(1.0, real.cost_total or 1.0)
                found.append((ratio, same, gain, f"{case.name}: {design.words}"))
    near = sum(1 / NEAR <= ratio <= NEAR for ratio, *_ in found)
    same = sum(each[1] for each in found)
    print(
        f"\npredictions: {len(found)} pairs of a statement and an index, {same} of the same shape, "
        f"{near} within 5 % of the cost found ({100 * near / len(found):.0f} %)"
    )
    off = [100 * (math.exp(each) - 1) for each in sorted(abs(math.log(size)) for size in sizes)]
    print(
        f"sizes: median off by {off[len(off) // 2]:.1f} %, "
        f"95th percentile {off[int(len(off) * 0.95)]:.1f} %"
    )
    worst = sorted(found, key=lambda each: -abs(math.log(max(each[0], 1e-9))))
    for ratio, alike, gain, words in worst[:6]:
        shape = "same" if alike else "other"
        print(f"    predicted/found {ratio:.2f}, {shape} shape, gain {gain:.1f}: {words}")


def _shape(plan: object, names: dict[str, str]) -> str:
    text = repr(shape_of(plan))  # type: ignore[arg-type]
    for ours, theirs in names.items():
        text = text.replace(repr(ours), repr(theirs))
    return text


def times(session: SqliteSession) -> None:
    """Our cost of each millisecond: how much it spreads over statements."""
    rates = []
    for case in CASES:
        statement = Statement(case.sql)
        try:
            session.run(statement)
            took = min(session.run(statement).elapsed_ms for _ in range(3))
        except Exception as error:  # a benchmark tells and goes on
            print(f"    {case.name}: {error}")
            continue
        plan = session.explain(statement, ExplainOptions()).plan
        if took >= SHORTEST_MS:
            rates.append(((plan.cost_total or 0.0) / took, case.name, took))
    rates.sort()
    middle = statistics.median(rate for rate, *_ in rates)
    within = sum(middle / 3 <= rate <= middle * 3 for rate, *_ in rates)
    print(
        f"\ncosts: {middle:,.0f} for each ms (median of {len(rates)} statements); {within} within "
        "a factor of 3 of that"
    )
    for rate, name, took in [*rates[:3], *rates[-3:]]:
        print(f"    {rate / middle:6.2f} of the median: {name} ({took:.1f} ms)")


if __name__ == "__main__":
    main()
