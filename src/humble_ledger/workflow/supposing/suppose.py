"""`suppose`: each query's plan if something were there, gone, or set otherwise."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.messages import Told, message
from humble_ledger.core.plans.comparison import compare
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.asked import setting
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.index_text import parse_index, spelled
from humble_ledger.core.remedies.operations import (
    CreateIndex,
    CreateStatistics,
    DropIndex,
    RewriteStatement,
    SetSettings,
)
from humble_ledger.core.remedies.prediction.formula import FormulaPredictor
from humble_ledger.core.remedies.prediction.planned import nearly_same
from humble_ledger.core.remedies.together import ColumnGroup, parse_group
from humble_ledger.core.results.suppositions import SupposedIndex, SupposedQuery, Supposition
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import ExplainOptions, Hollow, Session
from humble_ledger.errors import HumbleError, StatementRejected, WrongUsage
from humble_ledger.ledger.ids import parse_id
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.plans import explain_now
from humble_ledger.workflow.reading.ranking import captured_queries
from humble_ledger.workflow.reading.subjects import Subject, subject_of
from humble_ledger.workflow.workspace import Workspace

LEAST_GROWTH, MOST_GROWTH = 0.01, 10_000.0
SUPPOSED = "supposed"  # the origin of a plan that a copy without rows made


@dataclass(slots=True)
class Supposed:
    """What is supposed, as it was asked for: texts of indexes, names, settings, remedies."""

    indexes: Sequence[str] = ()
    without: Sequence[str] = ()
    settings: Sequence[str] = ()
    remedies: Sequence[str] = ()
    rows: Sequence[str] = ()
    statistics: Sequence[str] = ()


@dataclass(slots=True)
class _Made:
    """The same, understood: designs with their sizes, indexes gone, settings, other texts."""

    shapes: dict[IndexDesign, IndexShape] = field(default_factory=dict)
    tables: dict[TableName, TableFacts] = field(default_factory=dict)
    without: list[TableName] = field(default_factory=list)
    settings: list[tuple[str, str]] = field(default_factory=list)
    texts: dict[str, str] = field(default_factory=dict)
    rows: dict[TableName, float] = field(default_factory=dict)
    together: list[ColumnGroup] = field(default_factory=list)


def suppose(
    workspace: Workspace,
    whats: Sequence[str],
    asked: Supposed,
    progress: Progress = lambda _: None,
) -> Supposition:
    """Ask the target's planner, on a copy without rows, about some queries or about all.

    Raises:
        WrongUsage: nothing is supposed, or it names what is not there.
        TargetUnreachable: no copy can be made here.
    """
    if asked == Supposed():
        raise WrongUsage(
            "Nothing is supposed.",
            'Name it, for example:  humble suppose q1 --index "reading (sensor_id)"',
        )
    made = _understood(workspace, asked)
    hollow = workspace.hollow(progress)
    found, left_out = [], []
    before = hollow.asked
    began = time.perf_counter()
    for what in whats or captured_queries(workspace):
        progress(f"planning {what}")
        try:
            found.append(_supposed(workspace, hollow, what, made))
        except HumbleError as error:
            if len(whats) == 1:
                raise
            left_out.append((what, str(error)))
    return Supposition(
        tuple(found),
        tuple(
            SupposedIndex(
                design.words,
                shape.size_bytes(made.tables[design.table].page_bytes),
            )
            for design, shape in made.shapes.items()
        ),
        tuple(str(name) for name in made.without),
        tuple(made.settings),
        tuple((str(table), factor) for table, factor in made.rows.items()),
        tuple(group.words for group in made.together),
        tuple(left_out),
        tuple(hollow.notes),
        hollow.asked - before,
        (time.perf_counter() - began) * 1000.0,
    )


def entries_of(found: SupposedQuery) -> tuple[PlanEntry, PlanEntry]:
    """The two plans of a query as entries, which are in no ledger."""
    query = found.query if parse_id(found.query) is not None else None
    return (
        PlanEntry("now", "", query, found.statement, (), SUPPOSED, found.before),
        PlanEntry("supposed", "", query, found.statement, (), SUPPOSED, found.after),
    )


def _supposed(workspace: Workspace, hollow: Hollow, what: str, made: _Made) -> SupposedQuery:
    subject = subject_of(workspace, what)
    statement = statement_of(subject, what)
    entry = explain_now(workspace, Subject(subject.query, statement), measure=False)
    now, query = entry.plan, entry.query or what
    same = _as_it_is(hollow, statement)
    text = made.texts.get(query)
    asked = Statement(text) if text is not None else statement
    options = ExplainOptions(settings=tuple(made.settings))
    after = hollow.explain(
        asked,
        made.shapes,
        options,
        without=made.without,
        rows=made.rows,
        together=made.together,
    ).plan
    caution: Told = ""
    if not nearly_same(same.cost_total or 0.0, now.cost_total or 0.0, hollow.tolerance):
        caution = message(
            "copy-plans-otherwise", there=same.cost_total or 0.0, here=now.cost_total or 0.0
        )
        now = same
    uses = _uses(after, hollow.names(made.shapes))
    return SupposedQuery(
        query, statement.sql, now, after, compare(now, after), tuple(uses), caution
    )


def _as_it_is(hollow: Hollow, statement: Statement) -> Plan:
    """The plan on the copy with nothing supposed, of what the target has planned already.

    Raises:
        StatementRejected: the copy lacks something that the target has.
    """
    try:
        return hollow.explain(statement, {}).plan
    except StatementRejected as error:
        raise StatementRejected(
            f"The copy cannot plan it, though the target does: {error.message}",
            "Its role has few rights, and it lacks what could not be carried over; see "
            "humble hollow build . A trial asks the target itself.",
        ) from error


def statement_of(subject: Subject, what: str) -> Statement:
    """What is sent for a subject.

    Raises:
        WrongUsage: it has no statement.
    """
    if subject.plan is not None and subject.plan.statement:
        return Statement(subject.plan.statement, subject.plan.parameters)
    if subject.statement is None:
        raise WrongUsage(f"{what} has no statement to plan.", "Give a query, a plan's id or SQL.")
    return subject.statement


def _uses(plan: Plan, names: Mapping[str, IndexDesign]) -> list[str]:
    found = [names[n.index].words if n.index in names else n.index for n in plan.nodes() if n.index]
    return list(dict.fromkeys(found))


def _understood(workspace: Workspace, asked: Supposed) -> _Made:
    made = _Made()
    schema = workspace.engine.dialect.default_schema
    designs = [parse_index(text, schema) for text in asked.indexes]
    names = list(asked.without)
    for text in asked.settings:
        made.settings += setting(text).settings
    for id_ in asked.remedies:
        remedy = workspace.ledger.remedies.get(id_).remedy
        match remedy.operation:
            case CreateIndex(design):
                designs.append(design)
            case DropIndex():
                names.append(".".join(remedy.operation.place))
            case SetSettings(settings):
                made.settings += settings
            case RewriteStatement(new=text) if remedy.queries:
                made.texts[remedy.queries[0]] = text
            case CreateStatistics(table, columns=columns) if columns:
                made.together.append(ColumnGroup(table, columns))
            case _:
                raise WrongUsage(
                    f"{id_} cannot be supposed: what {remedy.type.value} bring, only a trial "
                    "tells.",
                    f"Try it:  humble trial WHAT --remedy {id_}",
                )
    session = workspace.session
    for text in asked.rows:
        table, factor = growth_of(session, text)
        made.rows[table] = factor
    made.together += [
        _group_placed(session, parse_group(text, schema)) for text in asked.statistics
    ]
    designs = [_placed(session, design) for design in designs]
    made.tables = dict(session.tables({design.table for design in designs}))
    formula = FormulaPredictor(session.costs, session)
    for design in designs:
        made.shapes[design] = formula.shape(design, made.tables[design.table])
    if names:
        made.without = _indexes_named(workspace, names)
    return made


def growth_of(session: Session, text: str) -> tuple[TableName, float]:
    """A table and how many times its rows, from "reading=100x".

    Raises:
        WrongUsage: it is not of that form, or there is no such table.
    """
    name, _, times = text.partition("=")
    try:
        factor = float(times.strip().lower().removesuffix("x"))
    except ValueError:
        factor = 0.0
    if not name or not LEAST_GROWTH <= factor <= MOST_GROWTH:
        raise WrongUsage(
            f'"{text}" is not a growth.', "Write it like  --rows reading=100x  (0.01x to 10000x)."
        )
    table, column = session.find_column(name.strip())
    if column:
        raise WrongUsage(f"{name} is a column.", "Name a table:  --rows reading=100x")
    return table, factor


def _placed(session: Session, design: IndexDesign) -> IndexDesign:
    """A design whose table is the one that the user's name stands for."""
    table = design.table
    if table not in session.tables([table]):
        table, _ = session.find_column(str(table))
    facts = session.tables([table]).get(table)
    return spelled(design, facts) if facts is not None else replace(design, table=table)


def _group_placed(session: Session, group: ColumnGroup) -> ColumnGroup:
    """A group whose table is the one that the user's name stands for.

    Raises:
        WrongUsage: the table has no such column.
    """
    found = session.tables([group.table])
    if group.table not in found:
        table, _ = session.find_column(str(group.table))
        group, found = replace(group, table=table), session.tables([table])
    columns = found[group.table].columns if group.table in found else {}
    missing = [column for column in group.columns if column not in columns]
    if missing:
        raise WrongUsage(
            f"{group.table} has no column {missing[0]}.", f"See them:  humble table {group.table}"
        )
    return group


def _indexes_named(workspace: Workspace, names: Sequence[str]) -> list[TableName]:
    """The indexes of the target that go by these names, as (schema, name)."""
    session = workspace.session
    tables = session.tables(session.user_tables())
    known = [TableName(t.name.schema, i.name) for t in tables.values() for i in t.indexes]
    found = []
    for name in names:
        same = [each for each in known if name in (each.name, f"{each.schema}.{each.name}")]
        if not same:
            raise WrongUsage(
                f"There is no index {name} here.", "The indexes of a table:  humble table NAME"
            )
        found += same[:1]
    return found
