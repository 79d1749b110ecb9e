"""MariaDB: what is found on a schema nobody wrote it on, and what predictions are worth.

The demo's scenario, the ferry office that was written for SQLite, a quay office with troubles of
this family's own, and an auction house. Each candidate index of each statement is really built
there, and the plan's cost with it is held against what was predicted.
"""

from __future__ import annotations

import math
import sqlite3
import statistics
import sys
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, closing
from dataclasses import dataclass
from pathlib import Path

import pymysql

from benchmarks.findings import Judged, humble, report, told
from benchmarks.grounds import auction_maria, rail_maria
from benchmarks.grounds.cases import Case
from benchmarks.grounds.ferry import CASES, made
from benchmarks.grounds.quay import ALIKE, SCHEMA, TROUBLES
from humble_ledger.core.remedies.candidates.accesses import accesses
from humble_ledger.core.remedies.candidates.model import IndexAbilities
from humble_ledger.core.remedies.candidates.registry import candidates
from humble_ledger.core.remedies.candidates.thorough import thorough
from humble_ledger.core.remedies.prediction.contract import Asked, Predictor
from humble_ledger.core.remedies.prediction.formula import FormulaPredictor
from humble_ledger.core.remedies.prediction.planned import PlannedPredictor
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.demo.mariadb import _with, build_mariadb_scenario, mariadb_cluster
from humble_ledger.demo.mariadb import mariadb_workload as workload
from humble_ledger.engines.contract import Limits, Session
from humble_ledger.engines.mysql.dialect import FAMILY
from humble_ledger.engines.mysql.engine import MariadbEngine
from humble_ledger.engines.mysql.launcher import MariaCluster, find_programs
from humble_ledger.errors import HumbleError
from humble_ledger.workflow.reading.plans import table_names
from humble_ledger.workflow.supposing.planner import HollowPlanner

NAME = "bench_ix"
READINGS = 300_000
# What only SQLite has, or what is another thing there.
_NOT_HERE = frozenset(
    """LIKE on a column with case|compared without case|GLOB with a beginning|the partial index fits
|the partial index does not fit|a column that ignores case|concatenated|joined by an expression
|in a random order|a plate by its beginning|an index for each run""".replace("\n", "").split("|")
)
_HERE = {
    "a number given for a text": Case(
        "a number given for a text", "SELECT * FROM ticket WHERE number = 7000042",
        ("selective-full-scan:type-mismatch", "full-scan-avoidable"),
    ),
    "few of each group": Case(
        "few of each group", "SELECT * FROM (SELECT t.*, row_number() OVER (PARTITION BY "
        "passenger_id ORDER BY sold_at DESC) n FROM ticket t) x WHERE n = 1",
        ("groups-read-whole", "sort-spills", "sort-without-index"),
    ),
    "a JSON field": Case(
        "a JSON field", "SELECT id FROM passenger WHERE json_value(meta, '$.tier') = 7",
        ("selective-full-scan:function-on-column",),
    ),
}  # fmt: skip
_KEYS = {"code", "name", "state", "from_port", "to_port", "leaves_at", "email", "surname", "born",
         "number", "sold_at", "plate", "paid_at", "method", "written_at", "at", "level",
         "title"}  # fmt: skip


@dataclass(frozen=True)
class Pair:
    """A statement with an index: costs now, predicted, and found when it was built."""

    words: str
    now: float
    predicted: float
    real: float
    used: bool

    @property
    def ratio(self) -> float:
        return max(self.predicted, 0.01) / max(self.real, 0.01)


def main(arguments: Sequence[str] = ()) -> None:
    """Print findings and predictions."""
    with mariadb_cluster(find_programs()) as cluster, tempfile.TemporaryDirectory() as folder:
        url = build_mariadb_scenario(cluster, READINGS)
        ferry = loaded(cluster, made(Path(folder) / "ferry.db"))
        cases = [_HERE.get(case.name, case) for case in CASES if case.name not in _NOT_HERE]
        findings("ferry", ferry, cases)
        findings("quay", built(cluster, "quay", SCHEMA.splitlines()), [*TROUBLES, *ALIKE])
        auction = built(cluster, "auction", auction_maria.SCHEMA.split(";\n"))
        findings("auction", auction, auction_maria.CASES)
        rail = built(cluster, "rail", rail_maria.SCHEMA.split(";\n"))
        findings("rail", rail, rail_maria.CASES)
        scenario = [
            (each.name, Statement(_with(each.sql, next(each.sendings(), ()))))
            for each in workload()
        ]
        predictions("scenario", url, scenario)
        predictions("ferry", ferry, [(c.name, Statement(c.sql)) for c in cases])
        asked = [(c.name, Statement(c.sql)) for c in auction_maria.CASES]
        predictions("auction", auction, asked)
        predictions("rail", rail, [(c.name, Statement(c.sql)) for c in rail_maria.CASES])


def loaded(cluster: MariaCluster, path: Path) -> str:
    """The ferry office on the server, with the indexes it can have."""
    target = pymysql.connect(unix_socket=str(cluster.socket), user="humble", autocommit=True)
    with target, target.cursor() as cursor, closing(sqlite3.connect(path)) as source:
        cursor.execute("SET SESSION long_query_time = 1000, SESSION foreign_key_checks = 0")
        cursor.execute("CREATE DATABASE ferry CHARACTER SET utf8mb4")
        cursor.execute("USE ferry")
        tables = source.execute("SELECT name FROM sqlite_schema WHERE type = 'table'"
                                " AND name NOT LIKE 'sqlite%'").fetchall()  # fmt: skip
        for (table,) in tables:
            columns = source.execute(f"PRAGMA table_info({table})").fetchall()
            declared = [
                f"`{c[1]}` {_type(c[1], c[2])}{' NOT NULL' if c[3] else ''}"
                f"{' PRIMARY KEY' if c[5] else ''}"
                for c in columns
            ]
            cursor.execute(f"CREATE TABLE {table} ({', '.join(declared)})")
            marks = ", ".join(["%s"] * len(columns))
            cursor.executemany(
                f"INSERT INTO {table} VALUES ({marks})", source.execute(f"SELECT * FROM {table}")
            )
        for (sql,) in source.execute(
            "SELECT sql FROM sqlite_schema WHERE type IN ('index', 'view') AND sql IS NOT NULL"
        ):
            cursor.execute(sql.partition(" WHERE answered")[0])
        cursor.execute(f"ANALYZE TABLE {', '.join(table for (table,) in tables)}")
    return cluster.url("ferry")


def _type(name: str, declared: str) -> str:
    if "INT" in declared:
        return "int"
    if "REAL" in declared:
        return "double"
    return "varchar(60)" if name in _KEYS else "varchar(400)"


def built(cluster: MariaCluster, name: str, statements: Sequence[str]) -> str:
    """A database of its own, by the statements that make it."""
    target = pymysql.connect(unix_socket=str(cluster.socket), user="humble", autocommit=True)
    with target, target.cursor() as cursor:
        cursor.execute("SET SESSION long_query_time = 1000")
        cursor.execute("USE mysql")
        for statement in filter(str.strip, statements):
            cursor.execute(statement)
    return cluster.url(name)


def findings(title: str, url: str, cases: Sequence[Case]) -> None:
    """Recall and false alarms."""
    with tempfile.TemporaryDirectory() as folder:
        humble(folder, "init", url, "--role", "scratch")
        judged = []
        for case in cases:
            how = ["--measure"] if case.measured else []
            judged.append(Judged(case, told(humble(folder, "diagnose", case.sql, "--json", *how))))
        report(f"{title} on MariaDB", judged)


def predictions(title: str, url: str, statements: Sequence[tuple[str, Statement]]) -> None:
    """Every candidate, built, against what was predicted: by formula, and on a copy."""
    by_way: dict[str, list[Pair]] = {}
    sizes = []
    for pairs, size in _pairs(url, statements):
        for way, pair in pairs.items():
            by_way.setdefault(way, []).append(pair)
        if size:
            sizes.append(size)
    for way, pairs in by_way.items():
        _told(f"{title}, {way}", pairs)
    if sizes:
        off = sorted(abs(size - 1) for size in sizes)
        print(f"    sizes of {len(sizes)}: off by {statistics.median(off):.0%} in the median")


def _told(title: str, pairs: Sequence[Pair]) -> None:
    used = [pair for pair in pairs if pair.used]

    def within(share: float) -> str:
        near = sum(1 / (1 + share) <= pair.ratio <= 1 + share for pair in used)
        return f"{near} within {share:.0%} ({near / max(1, len(used)):.0%})"

    gains = [p for p in pairs if p.now >= 2 * p.real]
    promises = [p for p in pairs if p.now >= 2 * p.predicted]
    print(f"\n{title}: {len(pairs)} pairs, {len(used)} used: {within(0.05)}, {within(0.25)}")
    print(f"    missed {sum(p.now < 2 * p.predicted for p in gains)} of {len(gains)} real gains of "
          f"twice, false {sum(p.now < 2 * p.real for p in promises)} of {len(promises)} "
          "promises")  # fmt: skip
    for pair in sorted(used, key=lambda p: -abs(math.log(p.ratio)))[:12]:
        if not 0.8 <= pair.ratio <= 1.25:
            print(f"    {pair.ratio:7.2f}×  now {pair.now:,.0f} predicted {pair.predicted:,.1f} "
                  f"real {pair.real:,.1f}  {pair.words}")  # fmt: skip


def _pairs(
    url: str, statements: Sequence[tuple[str, Statement]]
) -> Iterator[tuple[dict[str, Pair], float | None]]:
    engine = MariadbEngine()
    session = engine.connect(url, Limits(statement_ms=30_000)).session()
    formula = FormulaPredictor(session.costs, session)
    with ExitStack() as stack:
        hollow = stack.enter_context(engine.connect(url, Limits(statement_ms=30_000)).hollow())
        planner = HollowPlanner(hollow)
        copy = PlannedPredictor(planner, formula, session.costs)
        yield from _held(engine, url, session, {"formula": formula, "copy": copy}, statements)
        for words in (*copy.cautions, f"{hollow.asked} plans asked"):
            print(f"    {words}")
    session.close()


def _held(
    engine: MariadbEngine,
    url: str,
    session: Session,
    ways: Mapping[str, Predictor],
    statements: Sequence[tuple[str, Statement]],
) -> Iterator[tuple[dict[str, Pair], float | None]]:
    designs: dict[object, list[tuple[str, Asked, float]]] = {}
    for name, statement in statements:
        try:
            plan = session.explain(statement).plan
        except HumbleError as error:
            print(f"    {name}: {error.message[:100]}")
            continue
        tables = session.tables(table_names(plan))
        means = IndexAbilities(
            methods=FAMILY.methods, includes=False, most_key_bytes=FAMILY.most_key_bytes
        )
        asked = Asked(statement, plan, tuple(accesses(plan, tables)))
        found = [*candidates(plan, tables, means), *thorough(plan, tables, means)]
        for candidate in found:
            known = designs.setdefault(candidate.design, [])
            if all(other != name for other, *_ in known):
                known.append((name, asked, plan.cost_total or 0.0))
    for design, asking in designs.items():
        predicted = {
            (way, name): (outlook.cost, outlook.way)
            for way, predictor in ways.items()
            for name, asked, now in asking
            for outlook in (predictor.outlook(asked, [design]),)
        }
        facts = session.tables([design.table])[design.table]  # type: ignore[attr-defined]
        shape = ways["formula"].shape(design, facts)
        with engine.connect(url).admin() as hands:
            try:
                hands.do(design.create_sql(NAME, FAMILY))  # type: ignore[attr-defined]
            except HumbleError as error:
                print(f"    {design.words}: {error.message[:100]}")  # type: ignore[attr-defined]
                continue
            try:
                fresh = engine.connect(url, Limits(statement_ms=30_000)).session()
                size = None
                for name, asked, now in asking:
                    real = fresh.explain(asked.statement).plan
                    if size is None:
                        index = fresh.tables([design.table])[design.table].index(NAME)  # type: ignore[attr-defined]
                        size = shape.pages / max(1, index.pages) if index else None
                    words = f"{name}: {design.words}"  # type: ignore[attr-defined]
                    pairs = {}
                    for way in ways:
                        cost, by = predicted[way, name]
                        pairs[way] = Pair(f"{words} [{by}]", now, cost, real.cost_total or 0.0,
                                          real.uses_index(NAME))  # fmt: skip
                    yield pairs, size if name == asking[0][0] else None
                fresh.close()
            finally:
                hands.do(design.drop_sql(NAME, FAMILY))  # type: ignore[attr-defined]


if __name__ == "__main__":
    main(sys.argv[1:])
