"""An engine of another package: a toy server over `sqlite3`, to show that the door is open.

It plans by a formula of its own (a row costs 1, a search 10), so that its costs are exact. It
can build an index where only one side sees it: each side of an experiment is a copy of the file.
"""

from __future__ import annotations

import shutil
import sqlite3
import time
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from tempfile import TemporaryDirectory
from types import SimpleNamespace
from typing import Any

import sqlglot
from sqlglot import exp

from humble_ledger.core.costs.model import IndexShape, ScanCost
from humble_ledger.core.dialect import STANDARD
from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.plans.model import (
    Conditions,
    Cost,
    Discarded,
    Elapsed,
    Node,
    Operation,
    Plan,
)
from humble_ledger.core.results.suppositions import KeptHollow
from humble_ledger.core.schema.facts import (
    ColumnFacts,
    IndexFacts,
    IndexKey,
    ServerFacts,
    TableFacts,
    TableName,
)  # fmt: skip
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import (
    Capability,
    ExplainOptions,
    Hollow,
    IndexBuild,
    Leftovers,
    Outcome,
    PlanDocument,
    Support,
    WriteRuns,
)  # fmt: skip
from humble_ledger.errors import StatementRejected, TargetUnreachable

ROW, SEARCH, PAGE_BYTES, ROWS_ON_A_PAGE = 1.0, 10.0, 4096, 50


class PondCosts:
    """What the toy's planner charges."""

    skips_leading_columns = False
    # What it grants to a step: it has memory enough, and no parallel workers.
    resources = SimpleNamespace(
        memory_setting="pail", hash_memory_setting="pail", workers_setting="", compile_setting="",
        most_workers_setting="", compile_above_setting="", most_workers=None,
        compile_above_cost=None, memory_bytes=lambda plan: 1e9, hash_memory_bytes=lambda plan: 1e9,
    )  # fmt: skip

    @property
    def sizes(self) -> PondCosts:
        return self

    def in_order(self, table, columns, included=(), entries=None, sample=None) -> IndexShape:  # type: ignore[no-untyped-def]
        entries = entries or table.rows
        return IndexShape(int(entries / 100) + 1, 1, entries)

    def block_ranges(self, table, keys) -> IndexShape:  # type: ignore[no-untyped-def]
        return self.in_order(table, ())

    def enclosing(self, table, columns) -> IndexShape:  # type: ignore[no-untyped-def]
        return IndexShape(1, 1, table.rows)

    def inverted(self, table, width_bytes, terms_per_row, sample=None) -> IndexShape:  # type: ignore[no-untyped-def]
        return self.in_order(table, ())

    def sort(self, rows: float, width_bytes: float) -> float:
        return rows

    def per_row(self, rows: float, operators: float = 0) -> float:
        return ROW * rows

    def full_scan(self, table: TableFacts, operators: float = 0) -> float:
        return ROW * table.rows

    def correlation(self, leading: ColumnFacts | None, keys: int) -> float:
        return 0.0

    def index_scan(self, table, shape, search, correlation, covering=False) -> ScanCost:  # type: ignore[no-untyped-def]
        return ScanCost(0.0, SEARCH + ROW * search.matched_share * table.rows, "index scan")

    def bitmap_scan(self, table, shape, search) -> ScanCost:  # type: ignore[no-untyped-def]
        return replace(self.index_scan(table, shape, search, 0.0), total=float("inf"))

    block_range_scan = inverted_scan = index_scan


class PondPlans:
    """Plans of the toy: one object per statement."""

    engine = "pond"
    most_bytes = 1_000_000
    rules = ()

    def candidates(self, access: object) -> tuple[()]:
        return ()

    def looks_like(self, text: str) -> bool:
        return text.startswith("POND ")

    def document(self, text: str) -> object:
        return eval(text.removeprefix("POND "), {})

    def read(self, document: Any, version: str = "") -> Plan:
        d = document
        found = Conditions(search=tuple(d["search"]), filter=tuple(d["filter"]))
        root = Node(
            1, Operation(d["operation"]), f"Read {d['table']}",
            relation=d["table"], alias=d["table"],
            index=d["index"], cost=Cost(0.0, d["cost"]), rows_expected=d["rows"],
            conditions=found,
            rows_seen=d["seen"], loops=None if d["seen"] is None else 1.0,
            elapsed=None if d["seen"] is None else Elapsed(0.0, d["ms"]), output=tuple(d["output"]),
            discarded=Discarded(by_filter=d["discarded"]),
        )  # fmt: skip
        return Plan("pond", version, root, d["seen"] is not None, execution_ms=d["ms"])

    def masked(self, document: Any) -> object:
        return {**document, "search": [], "filter": []}

    def costs(self, server: ServerFacts) -> PondCosts:
        return PondCosts()

    def logged(self, document: object, text: str, took_ms: float) -> object:
        return document

    def shape(self, document: Any, text: str) -> tuple[str, ...]:
        return (document["operation"], document["index"])


@dataclass
class PondSession:
    """One connection; read-only by the file's mode unless it is an arm's own copy."""

    path: Path
    writes: bool = False

    def __post_init__(self) -> None:
        mode = "rw" if self.writes else "ro"
        self.connection = sqlite3.connect(f"file:{self.path}?mode={mode}", uri=True)
        self.server = ServerFacts("pond", "1.0", 10000, self.path.stem, "me", settings={})
        self.costs, self.methods = PondCosts(), frozenset()  # type: ignore[var-annotated]

    def support(self, capability: Capability) -> Support:
        able = capability is Capability.UNCOMMITTED_INDEX
        reason = "" if able else f"a pond cannot {capability.value}"
        return Support(able, "", "pond 1.0", reason, "" if able else "Try a lake.")

    def explain(
        self,
        statement: Statement,
        options: ExplainOptions = ExplainOptions(),  # noqa: B008
    ) -> PlanDocument:
        tree = sqlglot.parse_one(statement.sql, dialect="postgres")
        (table,) = [t.name for t in tree.find_all(exp.Table)]
        where = tree.find(exp.Where)
        both = where.this if where else None
        found = both.flatten() if isinstance(both, exp.And) else filter(None, [both])
        parts = [f"({part.sql()})" for part in found]
        facts = self.tables([TableName("main", table)])[TableName("main", table)]
        rows = self.rows_matching(facts.name, table, parts)
        serving = [
            (i, p) for i in facts.indexes for p in parts if f"{i.key_columns[0]} = " in p
        ]  # fmt: skip
        index, served = serving[0] if serving else (None, None)
        cost = (SEARCH + ROW * rows) if index else ROW * facts.rows
        outcome = self.run(statement) if options.measure else None
        document = {
            "table": table, "operation": "index_scan" if index else "full_scan",
            "index": index.name if index else "", "search": [served] if served else [],
            "filter": [p for p in parts if p != served], "cost": cost, "rows": rows,
            "seen": float(outcome.rows) if outcome else None,
            "discarded": 0.0 if index or not outcome else facts.rows - outcome.rows,
            "ms": outcome.elapsed_ms if outcome else None,
            "output": [e.sql() for e in tree.find_all(exp.Column)],
        }  # fmt: skip
        return PlanDocument(PondPlans().read(document, "1.0"), document)

    def run(self, statement: Statement) -> Outcome:
        begun = time.perf_counter()
        try:
            rows = self.connection.execute(statement.sql).fetchall()
        except sqlite3.OperationalError as error:
            raise StatementRejected(str(error), nothing_there="no such" in str(error)) from error
        return Outcome((time.perf_counter() - begun) * 1000, len(rows))

    def result_rows(self, statement: Statement) -> Iterator[tuple[bytes | None, ...]]:
        for row in self.connection.execute(statement.sql):
            yield tuple(None if v is None else str(v).encode() for v in row)

    def tables(self, names: Any) -> dict[TableName, TableFacts]:
        return {name: self._facts(name) for name in names}

    def _facts(self, name: TableName) -> TableFacts:
        ask = self.connection.execute
        rows = float(ask(f'SELECT count(*) FROM "{name.name}"').fetchone()[0])
        columns = {
            c[1]: ColumnFacts(c[1], c[2], c[0] + 1, bool(c[3]), -1, 1, distinct=rows / 10)
            for c in ask(f'PRAGMA table_info("{name.name}")')
        }
        pages = int(rows / ROWS_ON_A_PAGE) + 1

        def keys(index: str) -> sqlite3.Cursor:
            return ask(f'PRAGMA index_info("{index}")')

        indexes = tuple(
            IndexFacts(each, "btree", tuple(IndexKey(k[2]) for k in keys(each)))
            for _, each, *_ in ask(f'PRAGMA index_list("{name.name}")')
        )
        size = pages * PAGE_BYTES
        return TableFacts(name, "table", rows, pages, size, PAGE_BYTES, columns, indexes)

    def rows_matching(self, table: TableName, alias: str, conditions: Any) -> float:
        where = " AND ".join(conditions) or "true"
        sql = f'SELECT count(*) FROM "{table.name}" WHERE {where}'
        return float(self.connection.execute(sql).fetchone()[0])

    def count(self, table: TableName, conditions: Any) -> int:
        return int(self.rows_matching(table, "", conditions))

    def rows_per_value(self, table: TableName, columns: Any) -> float:
        return 10.0

    def column_values(self, table: TableName, column: str) -> ColumnValues:
        return ColumnValues()

    def few_values(self, table: TableName, column: str) -> tuple[str, ...]:
        return ()

    def user_tables(self) -> list[TableName]:
        found = self.connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
        return [TableName("main", row[0]) for row in found]

    def side_effects(self, statement: Statement, *, writes: bool = False) -> tuple[()]:
        return ()

    def require_run(self, statement: Statement, *, writes: bool = False) -> None:
        self.connection.execute(f"EXPLAIN {statement.sql}")

    def nothing(self, *_: object, **__: object) -> Any:
        return ()

    volatile_functions = operator_classes = preflight = concurrent_trials = nothing

    def sample_terms(self, *_: object) -> None:
        return None

    def sample_keys(self, *_: object) -> None:
        return None

    def is_immutable(self, table: TableName, expression: str) -> bool:
        return False

    def can_create_index(self, table: TableName) -> bool:
        return True

    def close(self) -> None:
        self.connection.close()


@dataclass
class PondExperiment:
    """Two copies of the file, of which one has the index."""

    before: Any
    after: Any
    builds: list[IndexBuild]

    def local_processes(self) -> tuple[int, ...]:
        return ()


class PondArm(PondSession):
    """One side: explains as the contract's arms do."""

    def explain(self, statement: Statement, *, measure: bool) -> PlanDocument:  # type: ignore[override]
        return super().explain(statement, ExplainOptions(measure=measure))


class PondEngine:
    """See `engines.contract.Engine`."""

    name = "pond"
    plans = PondPlans()
    dialect = STANDARD
    logs = ()

    def public_url(self, url: str) -> str:
        return url

    def not_kept(self, url: str) -> tuple[str, ...]:
        return ()

    def connect(self, url: str, *_: object, **__: object) -> PondServer:
        return PondServer(Path(url.removeprefix("pond://")))

    def kept_hollows(self) -> tuple[KeptHollow, ...]:
        return ()

    def drop_hollows(self) -> tuple[str, ...]:
        return ()


@dataclass(frozen=True)
class PondServer:
    """See `engines.contract.Server`."""

    path: Path
    hollow_holds_rows = False

    def session(self) -> PondSession:
        return PondSession(self.path)

    @contextmanager
    def experiment(self, change: Any) -> Iterator[PondExperiment]:
        with TemporaryDirectory() as folder:
            copies = [Path(folder) / side for side in ("before.db", "after.db")]
            for copy in copies:
                shutil.copy(self.path, copy)
            before, after = (PondArm(copy, writes=True) for copy in copies)
            begun = time.perf_counter()
            for index in change.indexes:
                after.connection.execute(index.create_sql)
            took = (time.perf_counter() - begun) * 1000
            builds = [IndexBuild(i.name, took, PAGE_BYTES * 10) for i in change.indexes]
            try:
                yield PondExperiment(before, after, builds)
            finally:
                before.close()
                after.close()

    def write_runs(self, table, index_on, updated) -> WriteRuns:  # type: ignore[no-untyped-def]
        pair = {"insert": (1.0, 1.0, 1.0)}
        return WriteRuns(10, 10, tuple(updated), pair, pair)

    def hollow(self, *_: object, **__: object) -> AbstractContextManager[Hollow]:
        raise TargetUnreachable("A pond has no hollow.")

    def leftovers(self, indexes: object) -> Leftovers:
        return Leftovers()
