"""Statistics as remedies: gathered anew, in more detail, or over columns that move together."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import Node
from humble_ledger.core.plans.tables import alias_of
from humble_ledger.core.remedies.candidates.expressions import expression_of
from humble_ledger.core.remedies.model import Remedy, RemedyType, remedy_of
from humble_ledger.core.remedies.operations import (
    Analyze,
    CreateStatistics,
    Custom,
    SetStatisticsTarget,
)
from humble_ledger.core.remedies.together import MOST_COLUMNS
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts
from humble_ledger.core.schema.quoting import fitting_name
from humble_ledger.core.statements.conditions import Wrapping, predicates
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.model import (
    COLUMNS_UNKNOWN,
    GATHERED_BY,
    UNDONE_BY,
    Symptom,
)

MISESTIMATE = "row-misestimate"
FEWEST_TOGETHER = 2  # tables
MORE = 10  # times the values that are listed now
MOST_TARGET = 10_000  # the server's own limit
_ANEW = frozenset(("statistics-missing", "statistics-stale", "beyond-statistics"))


def statistics_remedies(
    case: Case, found: Iterable[Symptom], query: str, dialect: Dialect = STANDARD
) -> Iterator[Remedy]:
    """What would correct the wrong estimates of a plan, each change once."""
    for symptom in found:
        if symptom.name == COLUMNS_UNKNOWN and GATHERED_BY in symptom.evidence:
            yield _of_columns(symptom, query)
        if symptom.name != MISESTIMATE:
            continue
        node = case.plan.node(symptom.node)
        table = case.table_of(node)
        if table is None or table.kind not in ("table", "partitioned"):
            continue
        cause = symptom.cause.name
        if cause in _ANEW:
            yield _gathered(table, cause, (query,), dialect)
        elif dialect.statistics is None:
            continue
        elif cause == "correlated-columns":
            columns = _columns(node, table)
            if 2 <= len(columns) <= MOST_COLUMNS:
                yield _extended(table, columns, query, dialect)
        elif cause == "expression-without-statistics":
            yield from _of_expressions(node, table, query, dialect)
        elif cause == "value-not-listed":
            for name in _columns(node, table)[:1]:
                yield _larger_target(case, table, table.columns[name], query, dialect)


def _of_columns(symptom: Symptom, query: str) -> Remedy:
    """What the server itself says gathers what it lacks."""
    told = symptom.evidence
    undone = tuple(str(told[key]) for key in UNDONE_BY if told.get(key))
    return remedy_of(
        Custom((str(told[GATHERED_BY]),), undone, of_statistics=True),
        f"statistics of {told['table']} ({told['columns']})",
        STANDARD,
        reason=symptom.summary,
        cures=(symptom.name,),
        queries=(query,),
    )


def schema_statistics(
    table: TableFacts, symptom: Symptom, dialect: Dialect = STANDARD
) -> Remedy | None:
    """What would correct a schema's symptom of statistics; None for one of another kind."""
    if symptom.name in _ANEW:
        return _gathered(table, symptom.name, (), dialect)
    return None


def gathered_where_needed(remedies: Sequence[Remedy], dialect: Dialect) -> Remedy | None:
    """One statement in place of several that gather statistics, where the server has one."""
    several = [r for r in remedies if r.type is RemedyType.STATISTICS]
    if not dialect.analyze_needed or len(several) < FEWEST_TOGETHER:
        return None
    return remedy_of(
        Analyze(),
        "statistics of all tables that need them",
        dialect,
        reason=message("tables-without-statistics", tables=len(several)),
        cures=tuple(dict.fromkeys(name for r in several for name in r.cures)),
    )


def _gathered(table: TableFacts, cause: str, queries: tuple[str, ...], dialect: Dialect) -> Remedy:
    return remedy_of(
        Analyze(table.name),
        f"statistics of {table.name} gathered anew",
        dialect,
        reason=message("rows-changed-since", changed=table.changes_since_analyze or 0),
        cures=(MISESTIMATE, cause),
        queries=queries,
    )


def _extended(table: TableFacts, columns: list[str], query: str, dialect: Dialect) -> Remedy:
    name = fitting_name("_".join([table.name.name, *columns])[:57] + "_stats")
    return remedy_of(
        CreateStatistics(table.name, name, tuple(columns)),
        f"statistics on {table.name} ({', '.join(columns)}) together",
        dialect,
        reason=message("correlated-shares-multiplied"),
        cures=(MISESTIMATE,),
        queries=(query,),
    )


def _of_expressions(
    node: Node, table: TableFacts, query: str, dialect: Dialect
) -> Iterator[Remedy]:
    """The server gathers values of columns alone, unless it is told of an expression."""
    texts = [t for n in node.walk() for t in (*n.conditions.search, *n.conditions.filter)]
    alias = alias_of(node)
    found = {expression_of(p, alias) for text in texts for p in predicates(text)} - {""}
    for expression in sorted(found):
        words = "_".join(re.findall(r"\w+", expression))[:40].lower()
        name = fitting_name(f"{table.name.name}_{words}_stats")
        yield remedy_of(
            CreateStatistics(table.name, name, expression=expression),
            f"statistics on {table.name} of {expression}",
            dialect,
            reason=message("expression-guessed"),
            cures=(MISESTIMATE,),
            queries=(query,),
        )


def _larger_target(
    case: Case, table: TableFacts, column: ColumnFacts, query: str, dialect: Dialect
) -> Remedy:
    usual = int(case.server.setting("default_statistics_target", 100.0))
    now = column.target or usual
    wanted = min(now * MORE, MOST_TARGET)
    return remedy_of(
        SetStatisticsTarget(table.name, column.name, wanted, None if now == usual else now),
        f"statistics of {table.name}.{column.name} with {wanted} values listed",
        dialect,
        reason=message("common-value-not-listed", listed=column.common_count),
        cures=(MISESTIMATE,),
        queries=(query,),
    )


def _columns(node: Node, table: TableFacts) -> list[str]:
    """The bare columns compared for equality, each once, in the order of the table."""
    texts = [t for n in node.walk() for t in (*n.conditions.search, *n.conditions.filter)]
    found = {
        p.column.column
        for text in texts
        for p in predicates(text)
        if p.equal and p.column is not None and p.wrapping is Wrapping.NONE
    }
    return [name for name in table.columns if name in found]
