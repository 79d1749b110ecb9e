"""Columns of which the server knows nothing: it takes every row to pass a filter on them."""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import phrase
from humble_ledger.core.plans.model import JOINS, Node
from humble_ledger.core.plans.paths import path_to
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.core.statements.conditions import columns_of
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.model import (
    COLUMNS_UNKNOWN,
    GATHERED_BY,
    UNDONE_BY,
    Cause,
    Symptom,
)
from humble_ledger.engines.mysql.gathering import ColumnStatistics
from humble_ledger.engines.mysql.plans.format import MARIADB

_TELLS_TEXTS = 100800
FEW = 0.3  # of a table's rows, below which it matters that the server takes all to pass


def nothing_known_of_column(case: Case) -> Iterable[Symptom]:
    """`column-statistics-missing`: all rows are taken to pass a filter, and a join is planned so.

    Without a join above it nothing hangs on the number; the scan is the same.
    """
    for node in case.plan.nodes():
        table = case.table_of(node)
        if not node.share_unknown or table is None or table.rows <= 0:
            continue
        joins = [step for step in path_to(case.plan.root, node)[:-1] if step.operation in JOINS]
        passed = case.rows(node) / max(1.0, node.loops or 1.0)
        share = min(1.0, passed / _led_to(node, table))
        below = case.share_below(joins[0]) if joins else 0.0
        if not joins or share > FEW or below < WORTH_A_WORD:
            continue
        columns = sorted({r.column for text in node.conditions.filter for r in columns_of(text)
                          if r.alias == node.alias})  # fmt: skip
        if not columns:
            continue
        gathered, undone = _statements(case, node, columns)
        yield Symptom(
            name=COLUMNS_UNKNOWN,
            node=node.no,
            step=node.name,
            summary=phrase(
                "the joins are planned {guess} of {table} passed; {share:share} of them do"
                if share
                else "the joins are planned {guess} of {table} passed; none of them does",
                guess=_as_if(case),
                table=table.name.name,
                share=share,
            ),
            evidence={
                "share_percent": 100 * share,
                "table": table.name.name,
                "columns": ", ".join(columns),
                GATHERED_BY: gathered,
                **dict(zip(UNDONE_BY, (*undone, "", ""), strict=False)),
            },
            cause=Cause(
                "no-column-statistics",
                phrase(
                    "the server keeps no statistics of {columns}; {gathered} gathers them",
                    columns=", ".join(columns),
                    gathered=gathered,
                ),
            ),
        )


def _led_to(node: Node, table: TableFacts) -> float:
    """The rows that its search leads to each time; all of the table without one."""
    searched = {r.column for text in node.conditions.search for r in columns_of(text)
                if r.alias == node.alias}  # fmt: skip
    known = [table.columns[name] for name in searched if name in table.columns]
    values = [column.distinct_values(table.rows) or 1.0 for column in known]
    return max(1.0, table.rows / max(values, default=1.0))


def _as_if(case: Case) -> str:
    """What the server takes for want of statistics: MySQL has a fixed share for some conditions."""
    return "as if every row" if case.plan.engine == MARIADB else "by a guess how many rows"


def _statements(case: Case, node: Node, columns: list[str]) -> tuple[str, tuple[str, ...]]:
    """What gathers statistics of these columns, and those that let them go again."""
    mariadb = case.plan.engine == MARIADB
    # MariaDB 10.11's usual histogram takes 99 % to pass where 2.5 % of texts do that begin alike;
    # by the other kind it says 2.5 %.
    exactly = mariadb and case.server.version_number >= _TELLS_TEXTS
    wanted = ColumnStatistics(node.relation, tuple(columns), mariadb=mariadb, exactly=exactly)
    return wanted.gathered(), wanted.undone()
