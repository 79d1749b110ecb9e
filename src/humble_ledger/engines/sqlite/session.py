"""A session on a database file: plans, facts and estimates; see `engines.contract.Session`."""

from __future__ import annotations

import getpass
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

import apsw

from humble_ledger.capture.places import ServedLog
from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.estimates.counting import FEW_VALUES, ValueCounts, shown_value
from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import IndexKey, ServerFacts, TableFacts, TableName
from humble_ledger.core.schema.readiness import Readiness
from humble_ledger.core.statements.kinds import (
    Statement,
    StatementKind,
    kind_of,
    require_readable_run,
)
from humble_ledger.core.statements.side_effects import SideEffect
from humble_ledger.core.workload.sampling import ActivityLook
from humble_ledger.core.workload.statistics import StatisticsLook
from humble_ledger.engines.contract import (
    Capability,
    ExplainOptions,
    Limits,
    Outcome,
    PlanDocument,
    Running,
    Support,
)
from humble_ledger.engines.sqlite import preflight, support
from humble_ledger.engines.sqlite.asking import row, rows
from humble_ledger.engines.sqlite.behind import keep_keys
from humble_ledger.engines.sqlite.copies import copy_of
from humble_ledger.engines.sqlite.costs import SqliteCosts
from humble_ledger.engines.sqlite.explain import Work, explained, listing, outcome, run
from humble_ledger.engines.sqlite.faults import translated
from humble_ledger.engines.sqlite.ground import Ground
from humble_ledger.engines.sqlite.guard import Guard, harden
from humble_ledger.engines.sqlite.one_statement import execute
from humble_ledger.engines.sqlite.plans.blocks import Condition
from humble_ledger.engines.sqlite.plans.statement import conditions_in
from humble_ledger.engines.sqlite.reading import Reader, limited, opened
from humble_ledger.engines.sqlite.samples import quoted
from humble_ledger.engines.sqlite.schema import table_name
from humble_ledger.engines.sqlite.values import as_text, prepared
from humble_ledger.errors import StatementRejected, WrongUsage

_CHANGING = frozenset(
    """random randomblob changes total_changes last_insert_rowid sqlite_offset
    current_timestamp current_date current_time""".split()
)
_NO_COUNTERS = "Record them where they are sent: humble_ledger.recording, see docs/guide/record.md."


class SqliteSession:
    """Reads one file; never writes it, and never keeps its writers waiting."""

    methods: frozenset[Method] = frozenset()

    def __init__(self, path: Path, limits: Limits) -> None:
        self.path = path
        self.limits = limits
        self.reader = Reader(path, limits.statement_ms)
        self.ground = Ground(self.reader)
        self.ground.refresh()
        version = apsw.sqlite_lib_version()
        number = apsw.SQLITE_VERSION_NUMBER
        self.server = ServerFacts("sqlite", version, number, path.name, getpass.getuser())
        self.costs = SqliteCosts()

    def support(self, capability: Capability) -> Support:
        """Whether SQLite can do that."""
        return support.of(self.server.version, capability)

    # Plans

    def explain(
        self,
        statement: Statement,
        options: ExplainOptions = ExplainOptions(),  # noqa: B008
    ) -> PlanDocument:
        """The plan of a statement; see `engines.contract.Planner`."""
        if options.settings:
            raise StatementRejected(
                "SQLite has no settings that change a plan.", "Leave out --set."
            )
        if options.measure:
            require_readable_run(statement.sql, options.allow_writes)
        self.ground.refresh()
        work = self._measured(statement, options) if options.measure else None
        found = self.reader.ask(lambda c: listing(c, statement, self.ground.schema))
        return explained(found, statement, self.ground.schema, self.ground, work)

    def _measured(self, statement: Statement, options: ExplainOptions) -> Work:
        limit = options.at_most_ms or self.limits.statement_ms
        if kind_of(statement.sql) is StatementKind.READS:
            return self.reader.ask(lambda c: run(c, statement), limit)
        # What it changes is changed in a copy, which is thrown away.
        with copy_of(self.path) as copy, translated(self.path):
            connection = opened(copy, Guard(writes=True), writes=True)
            try:
                keep_keys(connection)
                with limited(connection, limit):
                    return run(connection, statement)
            finally:
                connection.close()

    def rows_matching(self, table: TableName, alias: str, conditions: Sequence[str]) -> float:
        """Our estimate of the rows that meet all conditions; SQLite tells none."""
        facts = self.ground.facts(table.name)
        if facts is None:
            return 0.0
        name = alias or table.name
        found = [each for text in conditions for each in self._condition(table.name, name, text)]
        return facts.rows * self.ground.share(table.name, name, found)

    def _condition(self, table: str, alias: str, text: str) -> Sequence[Condition]:
        return conditions_in(text, table, alias, self.ground.schema)

    def rows_per_value(self, table: TableName, columns: Sequence[str]) -> float:
        """Rows that have the same values in these columns, in the mean."""
        facts = self.ground.facts(table.name)
        if facts is None:
            return 0.0
        keys = self.ground.key_sample(table.name, [IndexKey(c) for c in columns], (), "")
        alone = max([self.ground.distinct(table.name, c) for c in columns] or [1.0])
        both = keys.distinct(max(facts.rows, 1.0)) if keys is not None and len(columns) > 1 else 1.0
        return facts.rows / max(alone, both, 1.0)

    def side_effects(self, statement: Statement, *, writes: bool = False) -> Sequence[SideEffect]:
        """None: there are no functions that act outside, and what is changed is a copy."""
        return ()

    def require_run(self, statement: Statement, *, writes: bool = False) -> None:
        """Make sure that a statement can be run; nothing is."""
        sql, given = prepared(statement)
        self.reader.ask(lambda c: execute(c, f"EXPLAIN {sql}", given).fetchone())

    # The catalogue

    def tables(self, names: Iterable[TableName]) -> Mapping[TableName, TableFacts]:
        """Facts about these tables."""
        self.ground.refresh()
        found = {}
        for name in names:
            facts = self.ground.facts(name.name)
            if facts is not None and name.schema in ("", "main"):
                found[name] = facts
        return found

    def user_tables(self) -> Sequence[TableName]:
        """The tables with rows of their own; those that a virtual one is made of left out."""
        self.ground.refresh()
        virtual = [t.name for t in self.ground.schema.values() if t.kind == "virtual"]
        return [
            table_name(t.name)
            for t in self.ground.schema.values()
            if t.kind == "table" and not any(t.name.startswith(f"{v}_") for v in virtual)
        ]

    def find_column(self, words: str) -> tuple[TableName, str]:
        """The table, and the column or "", that a name stands for."""
        self.ground.refresh()
        bare = [part.strip('"`[]') for part in words.split(".")]
        if bare and bare[0].lower() == "main":
            bare = bare[1:]
        table = self.ground.table(bare[0]) if bare else None
        if table is None or len(bare) > 2:
            known = ", ".join(sorted(self.ground.schema)[:8]) or "none"
            raise WrongUsage(
                f'There is no table "{words}" in {self.path.name}.', f"Its tables are: {known}"
            )
        if len(bare) == 1:
            return table_name(table.name), ""
        column = table.column(bare[1])
        if column is None:
            names = ", ".join(c.name for c in table.columns)
            raise WrongUsage(f'{table.name} has no column "{bare[1]}".', f"It has: {names}")
        return table_name(table.name), column.name

    def column_values(self, table: TableName, column: str) -> ColumnValues:
        """Common values of a column in a sample of the rows; ANALYZE keeps none here."""
        found = self.ground.table(table.name)
        if found is None or found.column(column) is None:
            return ColumnValues()
        seen = self.ground.column_sample(found, column)
        common = tuple(
            ((as_text(value) or b"").decode("utf-8", "replace"), share)
            for value, share in seen.common
        )
        return ColumnValues(common)

    def volatile_functions(self, names: Iterable[str]) -> frozenset[str]:
        """Those whose result may differ from row to row."""
        return frozenset(name for name in names if name.lower() in _CHANGING)

    def is_immutable(self, table: TableName, expression: str) -> bool:
        """Whether an index may rest on an expression: asked of an empty table like this one."""
        found = self.ground.table(table.name)
        if found is None:
            return False
        memory = apsw.Connection(":memory:")
        harden(memory)
        memory.authorizer = Guard(writes=True)
        try:
            execute(memory, found.sql)
            index = f"CREATE INDEX humble_asks ON {quoted(found.name)} ({expression})"
            execute(memory, index)
        except (apsw.Error, StatementRejected):
            return False
        finally:
            memory.close()
        return True

    def operator_classes(self) -> frozenset[str]:
        """There are none."""
        return frozenset()

    def can_create_index(self, table: TableName) -> bool:
        """On a copy always."""
        return True

    # Rows

    def run(self, statement: Statement) -> Outcome:
        """Run a statement that only reads."""
        require_readable_run(statement.sql, allow_writes=False)
        return self.reader.ask(lambda c: outcome(c, statement))

    def condition(self, table: TableName, column: str, operator: str, value: str) -> str:
        """A column compared with a value."""
        facts = self.ground.table(table.name)
        known = facts.column(column) if facts is not None else None
        text = "'" + value.replace("'", "''") + "'"
        numeric = known is not None and known.affinity in ("INTEGER", "REAL", "NUMERIC")
        try:
            number = float(value) if numeric else None
        except ValueError:
            number = None
        return f"{quoted(column)} {operator} {text if number is None else value.strip()}"

    def count(self, table: TableName, conditions: Sequence[str]) -> int:
        """Count rows by reading them."""
        where = " AND ".join(f"({c})" for c in conditions) or "1"
        name = quoted(table.name)
        text = f"SELECT count(*) FROM {name} WHERE {where}"  # noqa: S608
        return int(self.reader.ask(lambda c: row(c, text)[0]))

    def few_values(self, table: TableName, column: str) -> Sequence[str]:
        """The first values that come."""
        sql = f"SELECT {quoted(column)} FROM {quoted(table.name)} LIMIT {FEW_VALUES}"  # noqa: S608
        found = self.reader.ask(lambda c: rows(c, sql))
        return [shown_value(value) for (value,) in found if value is not None]

    def value_counts(self, table: TableName, column: str, most: int) -> ValueCounts:
        """Count the values of a column by reading the whole table."""
        name, shown = quoted(table.name), quoted(column)
        whole = f"SELECT count(*), count(*) - count({shown}), count(DISTINCT {shown}) FROM {name}"  # noqa: S608
        common = (
            f"SELECT {shown}, count(*) FROM {name} WHERE {shown} IS NOT NULL "  # noqa: S608
            f"GROUP BY 1 ORDER BY 2 DESC LIMIT {int(most)}"
        )
        (total, nulls, distinct), found = self.reader.ask(
            lambda c: (row(c, whole), rows(c, common))
        )
        return ValueCounts(
            total,
            nulls,
            distinct,
            tuple(((as_text(v) or b"").decode("utf-8", "replace"), n) for v, n in found),
        )

    def sample_keys(
        self, table: TableName, keys: Sequence[IndexKey], included: Sequence[str], predicate: str
    ) -> KeySample | None:
        """Entries that an index would have, from the sample."""
        return self.ground.key_sample(table.name, keys, included, predicate)

    def sample_terms(
        self, table: TableName, key: IndexKey, type_name: str
    ) -> tuple[KeySample, float] | None:
        """There are no inverted indexes on tables."""
        return None

    # What goes on

    def preflight(self) -> Sequence[Readiness]:
        """What can be seen of this file."""
        return preflight.readiness(self.ground, self.reader)

    def statistics(self) -> StatisticsLook:
        """SQLite keeps none of statements."""
        raise WrongUsage("SQLite keeps no statistics of the statements that are run.", _NO_COUNTERS)

    def activity(self) -> ActivityLook:
        """Nobody can be seen at work."""
        raise WrongUsage("There is no server that could show who is at work.", _NO_COUNTERS)

    def running(self, session: int) -> Running | None:
        """Nobody can be seen at work."""
        raise WrongUsage("There is no server that could show who is at work.", _NO_COUNTERS)

    def logs(self) -> Sequence[ServedLog]:
        """Nobody writes one."""
        raise WrongUsage("There is no server that could write a log.", _NO_COUNTERS)

    def concurrent_trials(self, mark: str) -> tuple[str, ...]:
        """Trials are on copies: nobody disturbs anybody but by the machine's load."""
        return ()

    def close(self) -> None:
        """End the session."""
        self.reader.close()
