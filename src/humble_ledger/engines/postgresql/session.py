"""A read-only session on a PostgreSQL server."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from psycopg import sql

from humble_ledger.capture.places import ServedLog
from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.estimates.counting import ValueCounts
from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import IndexKey, ServerFacts, TableFacts, TableName
from humble_ledger.core.schema.readiness import Readiness
from humble_ledger.core.statements.kinds import Statement, require_plan, require_readable_run
from humble_ledger.core.statements.side_effects import SideEffect, refuse_plan, refuse_run
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
from humble_ledger.engines.postgresql import (
    activity,
    catalogue,
    counting,
    explain,
    following,
    indexability,
    naming,
    preflight,
    sampling,
    statement_statistics,
    support,
)
from humble_ledger.engines.postgresql.avoiding import avoiding, timeout, under
from humble_ledger.engines.postgresql.connection import Connection, connect
from humble_ledger.engines.postgresql.costs.scans import PostgresCosts
from humble_ledger.engines.postgresql.logs.served import served_logs
from humble_ledger.engines.postgresql.probing import askable
from humble_ledger.engines.postgresql.running import timed_run
from humble_ledger.engines.postgresql.side_effects.search import SideEffects
from humble_ledger.engines.postgresql.transactions import reading, undone
from humble_ledger.errors import RefusedForSafety, UnreadableInput


class PostgresSession:
    """One connection, opened at once; see `engines.contract.Session`."""

    def __init__(self, url: str, limits: Limits) -> None:
        self._connection: Connection = connect(url, limits)
        self.server: ServerFacts = catalogue.server_facts(self._connection)
        self._rows_known: dict[object, float] = {}
        self._samples: dict[object, KeySample | None] = {}
        self._lasting: dict[object, bool] = {}
        self._operator_classes: frozenset[str] | None = None
        self._side_effects = SideEffects(self._connection)
        self._may_call = limits.may_call

    @property
    def costs(self) -> PostgresCosts:
        """The server's cost formulas, with its settings."""
        return PostgresCosts(self.server)

    def support(self, capability: Capability) -> Support:
        """Whether this server is able to do that; if not, why, and what to do."""
        return support.of(self.server, capability)

    @property
    def methods(self) -> frozenset[Method]:
        """The methods that can be forbidden: all."""
        return frozenset(Method)

    def explain(
        self,
        statement: Statement,
        options: ExplainOptions = ExplainOptions(),  # noqa: B008
    ) -> PlanDocument:
        """The plan of a statement; see `engines.contract.Session`."""
        require_plan(statement.sql)
        if options.measure:
            require_readable_run(statement.sql, options.allow_writes)
        with (
            avoiding(self._connection, options.forbidden),
            under(self._connection, options.settings),
            timeout(self._connection, options.at_most_ms),
        ):
            if not (options.measure and options.allow_writes):
                return self._explain(statement, measure=options.measure)
            self._require_harmless(statement, measure=True, writes=True)
            with undone(self._connection):
                return self._explained(statement, measure=True)

    def run(self, statement: Statement) -> Outcome:
        """Run a statement that only reads, fetch its rows, and time it.

        Raises:
            RefusedForSafety: it changes or locks rows.
            StatementRejected: the server rejects it, or it takes too long.
        """
        require_readable_run(statement.sql, False)
        self.require_run(statement)
        with reading(self._connection):
            return timed_run(self._connection, statement)

    def side_effects(self, statement: Statement, *, writes: bool = False) -> Sequence[SideEffect]:
        """What running a statement may do beside reading, and what the planner may call."""
        return self._side_effects.of(statement.sql, writes=writes)

    def require_run(self, statement: Statement, *, writes: bool = False) -> None:
        """Make sure that a statement can be run here; see `engines.contract.Session`."""
        self._require_harmless(statement, measure=True, writes=writes)
        # What can be explained is no command that ends a transaction, whatever it looks like.
        with reading(self._connection):
            self._explained(statement)

    def tables(self, names: Iterable[TableName]) -> Mapping[TableName, TableFacts]:
        """Facts about these tables; unknown names are left out."""
        return catalogue.table_facts(self._connection, names)

    def rows_matching(self, table: TableName, alias: str, conditions: Sequence[str]) -> float:
        """The planner's estimate of the rows that meet all conditions; asked once of each.

        The conditions are the server's own text from one of its plans.

        Raises:
            UnreadableInput: they cannot be asked by themselves.
        """
        key = (table, alias, tuple(sorted(conditions)))
        if key not in self._rows_known:
            # The conditions are what this server printed; names go through the driver.
            asked = askable(conditions, alias or table.name)
            if asked is None:
                raise UnreadableInput("A condition with a sub-query cannot be asked by itself.")
            where = " AND ".join(f"({condition})" for condition in asked) or "true"
            source = sql.SQL("SELECT 1 FROM {} AS {} WHERE ").format(
                sql.Identifier(table.schema, table.name), sql.Identifier(alias or table.name)
            )
            self._rows_known[key] = self._estimate(source.as_string(None) + where)
        return self._rows_known[key]

    def column_values(self, table: TableName, column: str) -> ColumnValues:
        """What the statistics know of a column's values; empty when nothing was gathered."""
        return catalogue.column_values(self._connection, table, column)

    def volatile_functions(self, names: Iterable[str]) -> frozenset[str]:
        """Those of the named functions whose result may differ from one row to the next."""
        return catalogue.volatile_functions(self._connection, names)

    def user_tables(self) -> Sequence[TableName]:
        """The tables of this database that are the user's own."""
        return catalogue.user_tables(self._connection)

    def find_column(self, words: str) -> tuple[TableName, str]:
        """The table, and the column or "", that a name as people write it stands for.

        Raises:
            WrongUsage: there is no such table or column.
        """
        return naming.find_column(self._connection, words)

    def condition(self, table: TableName, column: str, operator: str, value: str) -> str:
        """A column compared with a value, as this server writes it."""
        return naming.condition(self._connection, table, column, operator, value)

    def count(self, table: TableName, conditions: Sequence[str]) -> int:
        """Count the rows of a table that meet all conditions, by reading them."""
        self._require_harmless(_reading_of(table), measure=True)
        with reading(self._connection):
            return counting.count(self._connection, table, conditions)

    def few_values(self, table: TableName, column: str) -> Sequence[str]:
        """The first values that come."""
        self._require_harmless(_reading_of(table), measure=True)
        with reading(self._connection):
            return counting.few_values(self._connection, table, column)

    def value_counts(self, table: TableName, column: str, most: int) -> ValueCounts:
        """Count the values of a column by reading the whole table."""
        self._require_harmless(_reading_of(table), measure=True)
        with reading(self._connection):
            return counting.value_counts(self._connection, table, column, most)

    def rows_per_value(self, table: TableName, columns: Sequence[str]) -> float:
        """The planner's estimate of the rows that equal one unknown value per column."""
        key = (table, tuple(columns))
        if key not in self._rows_known:
            tests = sql.SQL(" AND ").join(
                sql.SQL("{} = {}").format(sql.Identifier(column), sql.SQL(f"${number}"))
                for number, column in enumerate(columns, start=1)
            )
            query = sql.SQL("SELECT 1 FROM {} WHERE {}").format(
                sql.Identifier(table.schema, table.name), tests
            )
            self._rows_known[key] = self._estimate(query.as_string(None))
        return self._rows_known[key]

    def sample_keys(
        self, table: TableName, keys: Sequence[IndexKey], included: Sequence[str], predicate: str
    ) -> KeySample | None:
        """Entries an index would have, from a block sample of the table; taken once of each."""
        key = (table, tuple(keys), tuple(included), predicate)
        if key not in self._samples:
            computed = Statement(" ".join((*(each.expression for each in keys), predicate)))
            try:
                self._require_harmless(computed, measure=True)
            except RefusedForSafety:
                self._samples[key] = None
                return None
            with reading(self._connection):
                self._samples[key] = sampling.sample_keys(
                    self._connection, table, keys, included, predicate
                )
        return self._samples[key]

    def sample_terms(
        self, table: TableName, key: IndexKey, type_name: str
    ) -> tuple[KeySample, float] | None:
        """Terms that an inverted index on a key would have, and how many a row has."""
        if key.expression and not type_name and self.is_immutable(table, key.expression):
            with reading(self._connection):
                type_name = sampling.type_of(self._connection, table, key.expression)
        terms = sampling.terms_of(key, type_name)
        # As any other expression they are sampled only when nothing in them may act.
        found = self.sample_keys(table, (IndexKey("", terms),), (), "") if terms else None
        rows = self.sample_keys(table, (), (), "") if found is not None else None
        if found is None or rows is None or not rows.rows_seen or not found.rows_kept:
            return None
        return found, found.rows_kept / rows.rows_seen

    def is_immutable(self, table: TableName, expression: str) -> bool:
        """Whether an index may rest on this expression; asked once of each."""
        key = (table, expression)
        if key not in self._lasting:
            try:
                self._require_harmless(Statement(expression), measure=False)
            except RefusedForSafety:
                self._lasting[key] = False
                return False
            with reading(self._connection):
                self._lasting[key] = indexability.is_immutable(self._connection, table, expression)
        return self._lasting[key]

    def operator_classes(self) -> frozenset[str]:
        """The operator classes of this database, as "method:class"."""
        if self._operator_classes is None:
            self._operator_classes = indexability.operator_classes(self._connection)
        return self._operator_classes

    def can_create_index(self, table: TableName) -> bool:
        """Whether we may build an index on this table: it is ours, or we may do everything."""
        return catalogue.owns(self._connection, table)

    def logs(self) -> Sequence[ServedLog]:
        """The files that the server's own collector writes."""
        return served_logs(self._connection)

    def concurrent_trials(self, mark: str) -> tuple[str, ...]:
        """The names of trials on this database, by anybody, but for the one of this mark."""
        return activity.trials_at_work(self._connection, mark)

    def preflight(self) -> Sequence[Readiness]:
        """What this server lets us see, and how to see more."""
        return preflight.preflight(self._connection)

    def statistics(self) -> StatisticsLook:
        """The server's own statistics of statements in this database, ours left out."""
        return statement_statistics.statistics_look(self._connection)

    def activity(self) -> ActivityLook:
        """What every other session on this database does at this moment."""
        return activity.activity_look(self._connection)

    def running(self, session: int) -> Running | None:
        """What a session runs now, and how far it is where the server counts that."""
        return following.running(self._connection, session)

    def look_for_names_in(self, path: str) -> None:
        """Look for the names in users' statements where another session's user does."""
        self._connection.users_path = path

    def close(self) -> None:
        """End the session."""
        self._connection.close()

    def _explain(self, statement: Statement, *, measure: bool = False) -> PlanDocument:
        """The plan of a user's statement, which may only read."""
        self._require_harmless(statement, measure=measure)
        with reading(self._connection):
            return self._explained(statement, measure=measure)

    def _require_harmless(
        self, statement: Statement, *, measure: bool, writes: bool = False
    ) -> None:
        found = self._side_effects.of(statement.sql, writes=writes)
        if measure:
            refuse_run(found, self._may_call)
        refuse_plan(found, self._may_call)

    def _explained(self, statement: Statement, *, measure: bool = False) -> PlanDocument:
        version = self.server.version
        if measure:
            # The first planning in a session also reads the catalogue, which an application that
            # keeps its connections does not wait for: that is not to count as planning time.
            explain.explain(self._connection, statement, measure=False, version=version)
        return explain.explain(self._connection, statement, measure=measure, version=version)

    def _estimate(self, query: str) -> float:
        with under(self._connection, [("max_parallel_workers_per_gather", "0")]):
            found = self._explain(Statement(query)).plan.root
        return found.rows_expected or 0.0


def _reading_of(table: TableName) -> Statement:
    """The statement that reads all of a table, or what it is if it is a view."""
    return Statement(f"TABLE {sql.Identifier(table.schema, table.name).as_string(None)}")
