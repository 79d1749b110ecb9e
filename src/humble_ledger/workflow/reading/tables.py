"""What the server knows of a table, or of one of its columns; counting only when asked."""

from __future__ import annotations

import re
from collections.abc import Sequence

from humble_ledger.core.dialect import analyzing
from humble_ledger.core.estimates.distribution import AskedValue, place_of
from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.estimates.position import literal_of
from humble_ledger.core.plans.tables import alias_of
from humble_ledger.core.results.reports import ColumnReport, TableReport
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.conditions import Predicate, predicates
from humble_ledger.core.symptoms.in_plans.dead_space import pages_needed
from humble_ledger.core.symptoms.in_schema.indexes import merged_into
from humble_ledger.errors import WrongUsage
from humble_ledger.workflow.diagnosing.plans import plan_to_judge
from humble_ledger.workflow.diagnosing.schema import symptoms_of_schema
from humble_ledger.workflow.reading.subjects import subject_of
from humble_ledger.workflow.workspace import Workspace

MOST_COUNTED = 100
_ASKED = re.compile(r"\s*(<>|<=|>=|=|<|>)?\s*(.*)", re.DOTALL)


def table_report(workspace: Workspace, table: TableName) -> TableReport:
    """A table with its indexes, its use and age, and what is wrong with it."""
    facts = _facts(workspace, table)
    merged = {index.name: merged_into(facts, index) for index in facts.indexes}
    return TableReport(
        facts,
        pages_needed(facts),
        {name: other.name for name, other in merged.items() if other is not None},
        tuple(symptoms_of_schema(workspace, only=table)) if workspace.has_ledger else (),
    )


def column_report(
    workspace: Workspace,
    table: TableName,
    column: str,
    *,
    values: Sequence[str] = (),
    what: str = "",
    count: bool = False,
) -> ColumnReport:
    """A column's statistics, and where the values asked for fall.

    ``values`` are texts like "7" or ">= 2026-06-01"; ``what`` names a query or statement whose
    conditions on the column are taken. With ``count`` the table is read to count the truth.

    Raises:
        WrongUsage: a query does not test this column.
    """
    facts = _facts(workspace, table)
    session = workspace.session
    known = session.column_values(table, column)
    asked = [_value(workspace, table, column, text) for text in values]
    if what:
        asked += _of_query(workspace, table, column, what)
    found = tuple(
        _asked(workspace, table, condition, value, known, count) for condition, value in asked
    )
    counts = session.value_counts(table, column, MOST_COUNTED) if count else None
    gather = analyzing(table, workspace.engine.dialect)
    return ColumnReport(facts, facts.columns[column], known, found, counts, gather)


def _facts(workspace: Workspace, table: TableName) -> TableFacts:
    found = workspace.session.tables([table])
    if table not in found:
        raise WrongUsage(f"The table {table} cannot be seen by this user.", "Ask its owner.")
    return found[table]


def _value(workspace: Workspace, table: TableName, column: str, text: str) -> tuple[str, str]:
    """(condition, value) of a text like ">= 2026-06-01"."""
    found = _ASKED.fullmatch(text)
    assert found is not None  # it takes anything
    value = found[2].strip("'")
    return workspace.session.condition(table, column, found[1] or "=", value), value


def _of_query(
    workspace: Workspace, table: TableName, column: str, what: str
) -> list[tuple[str, str]]:
    entry = plan_to_judge(workspace, subject_of(workspace, what), measure=False)
    found: dict[str, str] = {}
    for node in entry.plan.nodes():
        if TableName(node.schema or table.schema, node.relation) != table:
            continue
        texts = [t for n in node.walk() for t in (*n.conditions.search, *n.conditions.filter)]
        for each in (p for text in texts for p in predicates(text)):
            if _tests(each, column, alias_of(node)):
                bare = re.sub(rf'(?<![\w"]){re.escape(alias_of(node))}\.', "", each.sql)
                found[bare] = literal_of(each.value) or ""
    if not found:
        raise WrongUsage(
            f"{what} does not test {table}.{column} alone.",
            f"Name a value:  humble table {table}.{column} --value 'VALUE'",
        )
    return list(found.items())


def _tests(each: Predicate, column: str, alias: str) -> bool:
    """Whether a condition compares the column with something that is known beforehand."""
    if each.column is None or each.partner is not None:
        return False
    return each.column.column == column and each.column.alias in (alias, "")


def _asked(
    workspace: Workspace,
    table: TableName,
    condition: str,
    value: str,
    known: ColumnValues,
    count: bool,
) -> AskedValue:
    rows = workspace.session.rows_matching(table, table.name, [condition])
    counted = workspace.session.count(table, [condition]) if count else None
    return AskedValue(condition, value, place_of(value, known), rows, counted)
