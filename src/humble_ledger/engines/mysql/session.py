"""A session: plans, facts, estimates and samples; see `engines.contract.Session`."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager

from humble_ledger.capture.places import ServedLog
from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.estimates.counting import FEW_VALUES, ValueCounts, shown_value
from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import (
    IndexKey,
    ServerFacts,
    TableFacts,
    TableName,
)
from humble_ledger.core.schema.readiness import Readiness
from humble_ledger.core.statements.kinds import (
    Statement,
    StatementKind,
    require_readable_run,
)
from humble_ledger.core.statements.side_effects import SideEffect, refuse_run
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
from humble_ledger.engines.mysql import activity, digests, explain, following, preflight, support
from humble_ledger.engines.mysql.connection import Connection, connect
from humble_ledger.engines.mysql.costs import MysqlCosts
from humble_ledger.engines.mysql.estimates import Estimates
from humble_ledger.engines.mysql.expressions import FROM_MYSQL, can_be_key, may_be_asked_of
from humble_ledger.engines.mysql.lexing import require_plain
from humble_ledger.engines.mysql.log_table import served_logs
from humble_ledger.engines.mysql.naming import condition as ours
from humble_ledger.engines.mysql.naming import place, quoted
from humble_ledger.engines.mysql.restoring import with_settings, writing
from humble_ledger.engines.mysql.safety import effects_of, require_undoable
from humble_ledger.engines.mysql.values import as_text, literal
from humble_ledger.errors import HumbleError, WrongUsage

FEWEST_SEEN = 10.0  # rows of a sample, below which its share says little
_CHANGING = frozenset(
    """rand uuid uuid_short now sysdate curdate curtime current_timestamp current_date current_time
    utc_date utc_time utc_timestamp unix_timestamp localtime localtimestamp last_insert_id
    found_rows row_count connection_id user current_user session_user system_user sleep benchmark
    get_lock release_lock random_bytes""".split()
)
_SETTINGS = (
    "sort_buffer_size", "join_buffer_size", "tmp_table_size", "max_heap_table_size",
    "innodb_buffer_pool_size", "read_rnd_buffer_size", "optimizer_switch", "use_stat_tables",
    "optimizer_use_condition_selectivity", "eq_range_index_dive_limit",
)  # fmt: skip


class MysqlSession:
    """A read-only session; see `engines.contract.Session`."""

    methods: frozenset[Method] = frozenset()

    def __init__(self, url: str, limits: Limits, engine: str) -> None:
        self.limits = limits
        self.engine = engine
        self.connection: Connection = connect(url, limits)
        try:
            self.database = str(self.connection.one("SELECT DATABASE()") or "")
            if not self.database:
                raise WrongUsage(
                    "The URL names no database.", "Add it at the end:  mariadb://host/database"
                )
            self.known = Estimates(self.connection, self.database, engine)
            self.server = self._server()
        except BaseException:
            self.connection.close()
            raise
        self.costs = MysqlCosts.of(self.server)
        self._begun: activity.Begun = {}

    def _server(self) -> ServerFacts:
        member = self.connection.member
        numbers: dict[str, float] = {"mariadb": float(member.mariadb)}
        texts: dict[str, str] = {}
        for name in _SETTINGS:
            try:
                value = self.connection.one(f"SELECT @@SESSION.{name}")
            except HumbleError:
                try:
                    value = self.connection.one(f"SELECT @@GLOBAL.{name}")
                except HumbleError:
                    continue
            if isinstance(value, int | float):
                numbers[name.replace("_size", "_bytes")] = float(value)
            else:
                texts[name] = str(value)
        read_only = int(self.connection.one("SELECT @@GLOBAL.read_only") or 0)
        # MariaDB may be reached by the address of MySQL: then it says so.
        own = member.name.lower() == self.engine
        version = member.version if own else f"{member.name} {member.version}"
        user = str(self.connection.one("SELECT CURRENT_USER()"))
        return ServerFacts(
            self.engine,
            version,
            member.number,
            self.database,
            user,
            read_only_copy=bool(read_only),
            settings=numbers,
            texts=texts,
        )

    def support(self, capability: Capability) -> Support:
        """Whether this server can do that."""
        return support.of(self.connection.member, capability, read_only=self.server.read_only_copy)

    # Plans

    def explain(
        self,
        statement: Statement,
        options: ExplainOptions = ExplainOptions(),  # noqa: B008
    ) -> PlanDocument:
        """The plan of a statement; see `engines.contract.Planner`."""
        plain = require_plain(statement.sql, self.connection.modes)
        if options.measure:
            require_readable_run(plain, options.allow_writes)
            refuse_run(self.side_effects(statement), self.limits.may_call)
        changes = explain.kind(statement.sql, self.connection.modes) is StatementKind.CHANGES
        with with_settings(self.connection, options.settings), self._at_most(options.at_most_ms):
            if changes:
                # Such a statement is not even explained where nothing may be written.
                if options.measure:
                    require_undoable(self.connection, plain)
                with writing(self.connection):
                    return self.known.explained(statement, measure=options.measure)
            return self.known.explained(statement, measure=options.measure)

    @contextmanager
    def _at_most(self, milliseconds: int | None) -> Iterator[None]:
        if milliseconds is None:
            yield
            return
        self.connection.patience(milliseconds)
        try:
            yield
        finally:
            self.connection.patience(self.limits.statement_ms)

    def rows_matching(self, table: TableName, alias: str, conditions: Sequence[str]) -> float:
        """Rows that meet all conditions; see `estimates`."""
        return self.known.rows_matching(table, alias, conditions)

    def rows_per_value(self, table: TableName, columns: Sequence[str]) -> float:
        """Rows that have the same values in these columns, in the mean."""
        return self.known.rows_per_value(table, columns)

    def side_effects(self, statement: Statement, *, writes: bool = False) -> Sequence[SideEffect]:
        """What it calls that acts outside of a transaction."""
        plain = require_plain(statement.sql, self.connection.modes)
        return effects_of(self.connection, plain)

    def require_run(self, statement: Statement, *, writes: bool = False) -> None:
        """Make sure that a statement can be run; nothing is."""
        refuse_run(self.side_effects(statement, writes=writes), self.limits.may_call)
        self.explain(statement)
        if explain.kind(statement.sql, self.connection.modes) is StatementKind.CHANGES:
            plain = require_plain(statement.sql, self.connection.modes)
            require_undoable(self.connection, plain)

    # The catalogue

    def tables(self, names: Iterable[TableName]) -> Mapping[TableName, TableFacts]:
        """Facts about these tables, with what a sample shows of their columns."""
        return self.known.tables(names)

    def user_tables(self) -> Sequence[TableName]:
        """The tables of this database."""
        return self.known.catalogue.user_tables()

    def find_column(self, words: str) -> tuple[TableName, str]:
        """The table, and the column or "", that a name stands for."""
        parts = [part.strip('`"') for part in words.split(".")]
        for size in (len(parts), len(parts) - 1):
            if not 1 <= size <= 2:
                continue
            name = self.known.plain(TableName(parts[0] if size == 2 else "", parts[size - 1]))
            facts = self.known.catalogue.tables([name]).get(name)
            if facts is None:
                continue
            if size == len(parts):
                return name, ""
            column = next((c for c in facts.columns if c.lower() == parts[-1].lower()), None)
            if column is None:
                raise WrongUsage(
                    f"The table {name} has no column {parts[-1]}.",
                    f"It has: {', '.join(facts.columns)}.",
                )
            return name, column
        known = ", ".join(table.name for table in self.user_tables()[:8]) or "none"
        raise WrongUsage(
            f"There is no table {words} in {self.database}.", f"Its tables are: {known}"
        )

    def column_values(self, table: TableName, column: str) -> ColumnValues:
        """Common values of a column in a sample of the rows."""
        sample = self.known.sample(table)
        found = sample.values(column)
        total = sum(int(count) for _, count, _, _ in found)
        common = [
            ((as_text(value) or b"").decode("utf-8", "replace"), int(count) / max(1, total))
            for value, count, places, _ in found
            if value is not None and (int(places) > 2 or sample.whole)
        ]
        return ColumnValues(tuple(common[:100]))

    def volatile_functions(self, names: Iterable[str]) -> frozenset[str]:
        """Those whose result may differ from row to row."""
        return frozenset(name for name in names if name.lower() in _CHANGING)

    def is_immutable(self, table: TableName, expression: str) -> bool:
        """Whether an index may rest on an expression: never MariaDB's."""
        if not self.connection.member.has(None, FROM_MYSQL):
            return False
        facts = self.tables([table]).get(table)
        return facts is not None and can_be_key(expression, facts.columns)

    def operator_classes(self) -> frozenset[str]:
        """There are none."""
        return frozenset()

    def can_create_index(self, table: TableName) -> bool:
        """Whether we have the right to; where that cannot be seen, the trial tells."""
        try:
            grants = " ".join(str(row[0]) for row in self.connection.rows("SHOW GRANTS"))
        except HumbleError:
            return True
        return any(word in grants for word in ("ALL PRIVILEGES", "INDEX", "ALTER"))

    # Rows

    def run(self, statement: Statement) -> Outcome:
        """Run a statement that only reads."""
        plain = require_plain(statement.sql, self.connection.modes)
        require_readable_run(plain, allow_writes=False)
        refuse_run(self.side_effects(statement), self.limits.may_call)
        return explain.outcome(self.connection, statement)

    def condition(self, table: TableName, column: str, operator: str, value: str) -> str:
        """A column compared with a value, in the core's notation."""
        shown = literal(value)
        return f"{table.name}.{column} {operator} {shown}"

    def count(self, table: TableName, conditions: Sequence[str]) -> int:
        """Count rows by reading them."""
        where = " AND ".join(f"({ours(text)})" for text in conditions) or "1"
        return int(self.connection.one(f"SELECT COUNT(*) FROM {place(table)} WHERE {where}"))

    def few_values(self, table: TableName, column: str) -> Sequence[str]:
        """The first values that come."""
        found = self.connection.rows(
            f"SELECT {quoted(column)} FROM {place(table)} LIMIT {FEW_VALUES}"
        )
        return [shown_value(value) for (value,) in found if value is not None]

    def value_counts(self, table: TableName, column: str, most: int) -> ValueCounts:
        """Count the values of a column by reading the whole table."""
        shown, source = quoted(column), place(table)
        total, nulls, distinct = self.connection.rows(
            f"SELECT COUNT(*), COUNT(*) - COUNT({shown}), COUNT(DISTINCT {shown}) FROM {source}"
        )[0]
        found = self.connection.rows(
            f"SELECT {shown}, COUNT(*) FROM {source} WHERE {shown} IS NOT NULL "
            f"GROUP BY 1 ORDER BY 2 DESC LIMIT {int(most)}"
        )
        return ValueCounts(
            int(total),
            int(nulls),
            int(distinct),
            tuple(((as_text(v) or b"").decode("utf-8", "replace"), int(n)) for v, n in found),
        )

    def sample_keys(
        self, table: TableName, keys: Sequence[IndexKey], included: Sequence[str], predicate: str
    ) -> KeySample | None:
        """Entries that an index would have, from the sample."""
        facts = self.known.catalogue.tables([self.known.plain(table)]).get(self.known.plain(table))
        if facts is None:
            return None
        held = [*keys, *(IndexKey(name) for name in included)]
        if not all(may_be_asked_of(key, facts.columns) for key in held):
            return None
        columns = [facts.columns[key.column] for key in held if key.column in facts.columns]
        lengths = {c.name: c.length_bytes for c in columns if c.length_bytes > 0}
        return self.known.sample(table).keys(held, predicate, lengths)

    def sample_terms(
        self, table: TableName, key: IndexKey, type_name: str
    ) -> tuple[KeySample, float] | None:
        """Full-text indexes are not priced."""
        return None

    # What goes on

    def preflight(self) -> Sequence[Readiness]:
        """What this server lets us see."""
        return preflight.readiness(self.connection)

    def statistics(self) -> StatisticsLook:
        """The server's statistics of statements."""
        return digests.look(self.connection, self.database)

    def activity(self) -> ActivityLook:
        """What every other session does."""
        return activity.look(self.connection, self._begun)

    def running(self, session: int) -> Running | None:
        """What a session runs now, with its plan and its rows so far."""
        return following.running(self.connection, session, self.database, self.engine)

    def logs(self) -> Sequence[ServedLog]:
        """The slow log as a table, where the server writes it there."""
        return served_logs(self.connection)

    def concurrent_trials(self, mark: str) -> tuple[str, ...]:
        """Trials of others on this server, by the names of their connections."""
        return activity.trials(self.connection, mark)

    def close(self) -> None:
        """End the session."""
        self.connection.close()
