"""A read-only session on a server that speaks PostgreSQL's protocol and is another."""

from __future__ import annotations

import re
import time
from collections.abc import Iterable, Mapping, Sequence
from typing import NoReturn

from humble_ledger.capture.places import ServedLog
from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.costs.unknown import UnknownCosts
from humble_ledger.core.estimates.counting import ValueCounts
from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import IndexKey, ServerFacts, TableFacts, TableName
from humble_ledger.core.schema.readiness import Readiness, SourceState
from humble_ledger.core.statements.kinds import (
    Statement,
    one_statement,
    require_plan,
    require_readable_run,
)
from humble_ledger.core.statements.side_effects import SideEffect, SideEffectReason, refuse_run
from humble_ledger.core.statements.tokens import has_placeholders
from humble_ledger.core.workload.sampling import ActivityLook
from humble_ledger.core.workload.statistics import StatisticsLook
from humble_ledger.engines.contract import (
    Capability,
    ExplainOptions,
    Limits,
    Outcome,
    PlanDocument,
    PlanFormat,
    Running,
    Support,
)
from humble_ledger.engines.postgresql.others import catalogue
from humble_ledger.engines.postgresql.others.reaching import Reached
from humble_ledger.errors import StatementRejected, UnreadableInput, WrongUsage

_PROBE = "SELECT 1"
# How EXPLAIN may be asked, the most telling first; each is tried before it is used.
_ESTIMATED = ("EXPLAIN (FORMAT JSON) ", "EXPLAIN ")
_MEASURED = ("EXPLAIN (ANALYZE, FORMAT JSON) ", "EXPLAIN ANALYZE ")
# Functions of the standard, which compute and do nothing else wherever they are.
_HARMLESS = frozenset(
    """count sum avg min max coalesce nullif greatest least lower upper length char_length trim
    substring substr replace concat abs round ceil ceiling floor mod power sqrt extract date_trunc
    date_part cast row_number rank dense_rank lag lead first_value last_value ntile exists any all
    some in values array unnest string_agg array_agg json_agg bool_and bool_or every position
    overlay to_char to_date to_timestamp to_number now current_timestamp over partition filter
    within using on and or not as by select from where with union intersect except when then else
    case interval numeric decimal varchar char timestamp time float""".split()
)
_CALL = re.compile(r"([A-Za-z_][\w.]*|\"[^\"]+\")\s*\(")


class OtherSession:
    """See `engines.contract.Session`; it reads plans and facts, and builds nothing."""

    def __init__(self, url: str, limits: Limits) -> None:
        self._reached = Reached(url, limits)
        self._may_call = limits.may_call
        try:
            self._estimated, self._form = self._way_to_explain()
            self._measured = self._way_to_measure()
            self.server = self._facts()
        except BaseException:
            self._reached.close()
            raise

    @property
    def is_postgresql(self) -> bool:
        """Whether it answers as PostgreSQL does after all: what it refused is another matter."""
        words = self.server.version.startswith("PostgreSQL ")
        return words and self._form.engine == "postgresql" and self._estimated == _ESTIMATED[0]

    @property
    def costs(self) -> UnknownCosts:
        """Not known: its plans may look like PostgreSQL's and be reckoned otherwise."""
        return UnknownCosts()

    @property
    def methods(self) -> frozenset[Method]:
        """None can be forbidden."""
        return frozenset()

    def support(self, capability: Capability) -> Support:
        """Nothing that was not asked of it."""
        return Support(
            False,
            "",
            self.server.version,
            f"this server speaks PostgreSQL's protocol and is another ({self.server.version}): "
            f"whether it can {capability.value} is not known",
            "Make the change on a test database yourself, and hold the plans against each other:  "
            "humble compare p1 p2",
        )

    def explain(
        self,
        statement: Statement,
        options: ExplainOptions = ExplainOptions(),  # noqa: B008
    ) -> PlanDocument:
        """The plan of a statement; see `engines.contract.Planner`."""
        # Whether the protocol alone keeps a second statement out is not known of such a server.
        one_statement(statement.sql)
        require_plan(statement.sql)
        if has_placeholders(statement.sql) and not statement.values:
            raise WrongUsage(
                "The statement has placeholders such as $1 and no values for them, and this server "
                "plans none without.",
                "Write values in.",
            )
        if options.settings or options.forbidden:
            raise StatementRejected(
                "Settings of a session are not tried on this server.", "Leave them out."
            )
        if not options.measure:
            return self._planned(statement)
        if options.allow_writes:
            raise WrongUsage(
                "Statements that write are not run on this server, as nobody knows whether they "
                "can be taken back.",
                "Leave --allow-writes out.",
            )
        require_readable_run(statement.sql, False)
        self.require_run(statement)
        if not self._measured:
            raise StatementRejected(
                "This server has no EXPLAIN ANALYZE that can be read.", "Leave --measure out."
            )
        with self._reached.reading():
            return self._explained(self._measured, statement)

    def run(self, statement: Statement) -> Outcome:
        """Run a statement that only reads, and time it."""
        one_statement(statement.sql)
        require_readable_run(statement.sql, False)
        self.require_run(statement)
        with self._reached.reading():
            begun = time.perf_counter()
            rows = self._reached.users(statement.sql, statement.sql, statement.values)
            return Outcome((time.perf_counter() - begun) * 1000, len(rows))

    def side_effects(self, statement: Statement, *, writes: bool = False) -> Sequence[SideEffect]:
        """Every function that is none of the standard: its catalogue is not ours to read."""
        named = {found[1].strip('"').lower() for found in _CALL.finditer(statement.sql)}
        # The columns of a table stand in brackets behind its name, too.
        tables = {each.name.lower() for each in self.user_tables()} if named else set()
        unknown = sorted(
            name for name in named if name.rsplit(".", maxsplit=1)[-1] not in _HARMLESS | tables
        )
        return tuple(SideEffect(name, SideEffectReason.VOLATILE) for name in unknown)

    def require_run(self, statement: Statement, *, writes: bool = False) -> None:
        """Make sure that a statement can be run here."""
        refuse_run(self.side_effects(statement), self._may_call)
        self._planned(statement)

    def tables(self, names: Iterable[TableName]) -> Mapping[TableName, TableFacts]:
        """What it tells of these tables."""
        return catalogue.table_facts(self._reached, names)

    def user_tables(self) -> Sequence[TableName]:
        """The tables that are the user's own."""
        return catalogue.user_tables(self._reached)

    def find_column(self, words: str) -> tuple[TableName, str]:
        """The table, and its column, that a name stands for."""
        names = self.user_tables()
        for name in names:
            for shown in (name.name, f"{name.schema}.{name.name}"):
                if words == shown:
                    return name, ""
                if words.startswith(f"{shown}."):
                    return name, words.removeprefix(f"{shown}.")
        known = ", ".join(str(name) for name in names[:8])
        raise WrongUsage(f'This server has no table "{words}".', f"It has: {known}")

    def rows_matching(self, table: TableName, alias: str, conditions: Sequence[str]) -> float:
        """Not asked: its plans print no conditions that it would read again."""
        self._unknown("how many rows its planner expects of a condition alone")

    def rows_per_value(self, table: TableName, columns: Sequence[str]) -> float:
        """Not asked."""
        self._unknown("how many rows its planner expects of one value")

    def column_values(self, table: TableName, column: str) -> ColumnValues:
        """Nothing is known."""
        return ColumnValues()

    def few_values(self, table: TableName, column: str) -> Sequence[str]:
        """Nothing is known."""
        return ()

    def volatile_functions(self, names: Iterable[str]) -> frozenset[str]:
        """Nothing is known."""
        return frozenset()

    def is_immutable(self, table: TableName, expression: str) -> bool:
        """Nothing is known, so nothing is built on it."""
        return False

    def operator_classes(self) -> frozenset[str]:
        """None that are known."""
        return frozenset()

    def can_create_index(self, table: TableName) -> bool:
        """Nothing is built here."""
        return False

    def condition(self, table: TableName, column: str, operator: str, value: str) -> str:
        """Not written for a server whose rules of quoting are not known."""
        self._unknown("how it writes values")

    def count(self, table: TableName, conditions: Sequence[str]) -> int:
        """Not counted."""
        self._unknown("what counting costs it")

    def value_counts(self, table: TableName, column: str, most: int) -> ValueCounts:
        """Not counted."""
        self._unknown("what counting costs it")

    def sample_keys(
        self, table: TableName, keys: Sequence[IndexKey], included: Sequence[str], predicate: str
    ) -> KeySample | None:
        """No sample is taken: whether it can without reading all is not known."""
        return None

    def sample_terms(
        self, table: TableName, key: IndexKey, type_name: str
    ) -> tuple[KeySample, float] | None:
        """No sample is taken."""
        return None

    def preflight(self) -> Sequence[Readiness]:
        """How it explains, and what of it is not known."""
        measured = self._measured.strip() or "none that can be read"
        return (
            Readiness(
                "plans",
                SourceState.ON,
                f"by {self._estimated.strip()}, read as plans of {self._form.engine}",
                (f"measured: {measured}",),
            ),
            Readiness(
                "statistics of statements",
                SourceState.OFF,
                "how this server counts statements is not known",
                ("capture a script or a log of the application instead",),
            ),
        )

    def statistics(self) -> StatisticsLook:
        """Not known where it has them."""
        self._unknown("where it counts its statements")

    def activity(self) -> ActivityLook:
        """Not known where it shows them."""
        self._unknown("where it shows its sessions")

    def running(self, session: int) -> Running | None:
        """Not known."""
        self._unknown("where it shows its sessions")

    def logs(self) -> Sequence[ServedLog]:
        """Not known whether it hands them out."""
        self._unknown("where it keeps its log")

    def concurrent_trials(self, mark: str) -> tuple[str, ...]:
        """None: nothing is tried here."""
        return ()

    def close(self) -> None:
        """End the session."""
        self._reached.close()

    def _unknown(self, what: str) -> NoReturn:
        raise StatementRejected(
            f"This server speaks PostgreSQL's protocol and is another: it is not known {what}.",
            "Read plans of it:  humble plan 'SELECT …'",
        )

    def _way_to_explain(self) -> tuple[str, PlanFormat]:
        """How it explains, and the format that reads its answer.

        Raises:
            UnreadableInput: nothing that it answers is a plan that anybody here can read.
        """
        for prefix in _ESTIMATED:
            answer = self._answer(prefix)
            form = _form_of(answer) if answer is not None else None
            if form is not None:
                return prefix, form
        raise UnreadableInput(
            "This server speaks PostgreSQL's protocol, but its EXPLAIN answers nothing that can be "
            "read here.",
            "Save a plan and give it as a file; docs/formats/plan.md tells how to add a format.",
        )

    def _way_to_measure(self) -> str:
        """The same for a run, asked with a statement that touches nothing; "" where none is."""
        for prefix in _MEASURED:
            answer = self._answer(prefix)
            if answer is not None and _form_of(answer) is not None:
                return prefix
        return ""

    def _answer(self, prefix: str) -> object | None:
        rows = self._reached.ask(prefix + _PROBE)
        return _document(rows) if rows else None

    def _planned(self, statement: Statement) -> PlanDocument:
        with self._reached.planning():
            return self._explained(self._estimated, statement)

    def _explained(self, prefix: str, statement: Statement) -> PlanDocument:
        rows = self._reached.users(prefix + statement.sql, statement.sql, statement.values)
        document = _document(rows)
        form = _form_of(document) or self._form
        return PlanDocument(form.read(_parsed(form, document), self.server.version), document)

    def _facts(self) -> ServerFacts:
        told = self._reached.ask("SELECT version()")
        where = self._reached.ask("SELECT current_database(), current_user")
        schema = self._reached.ask("SELECT current_schema()")
        version = " ".join(str(told[0][0]).split()[:4]) if told else "of an unknown version"
        database, user = (str(each or "") for each in where[0]) if where else ("", "")
        return ServerFacts(
            self._form.engine,
            version,
            0,
            database,
            user,
            default_schema=str(schema[0][0] or "") if schema else "",
        )


def _document(rows: Sequence[tuple[object, ...]]) -> object:
    """The answer to EXPLAIN: one document, or lines; other columns beside them are joined."""
    if len(rows) == 1 and len(rows[0]) == 1 and not isinstance(rows[0][0], str):
        return rows[0][0]
    return "\n".join("\t".join(str(cell) for cell in row if cell is not None) for row in rows)


def _form_of(document: object) -> PlanFormat | None:
    """The format that a document is recognised by."""
    # Reading registry and formats is for such servers alone.
    from humble_ledger.engines.postgresql.plans.format import PostgresPlans  # noqa: PLC0415
    from humble_ledger.engines.registry import plan_formats  # noqa: PLC0415

    if isinstance(document, list | dict):
        postgresql = PostgresPlans()
        try:
            postgresql.read(document)
        except UnreadableInput:
            return None
        return postgresql
    text = str(document)
    for form in plan_formats():
        if form.looks_like(text):
            try:
                form.plans_in(form.document(text))
            except UnreadableInput:
                continue
            return form
    return None


def _parsed(form: PlanFormat, document: object) -> object:
    return form.document(document) if isinstance(document, str) else document
