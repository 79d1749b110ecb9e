"""Comparisons turned so that the bare column stands alone on its side."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.remedies.rewrites.model import Rewriting
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts, TableName
from humble_ledger.core.statements.turned.model import Known
from humble_ledger.core.statements.turned.turning import turn_all


def rewritings(
    sql: str, tables: Mapping[TableName, TableFacts], dialect: Dialect
) -> Iterator[Rewriting]:
    """The statement with each comparison turned that keeps an index from being used.

    All that can be turned is turned at once; nothing is given when there is none, or when the
    statement cannot be read.
    """
    try:
        tree = sqlglot.parse_one(sql, dialect=dialect.parser)
    except (SqlglotError, RecursionError):
        return
    turns = turn_all(tree, known_of(tree, tables, dialect))
    if turns:
        yield Rewriting(
            tree.sql(dialect=dialect.parser),
            "; ".join(dict.fromkeys(turn.done for turn in turns)),
            "; ".join(dict.fromkeys(turn.same_when for turn in turns if turn.same_when)),
            # What is computed of a column is guessed, so that no symptom need tell of it.
            always_asked=True,
        )


def known_of(tree: exp.Expr, tables: Mapping[TableName, TableFacts], dialect: Dialect) -> Known:
    """What is known of the columns of a statement."""

    def type_of(column: exp.Column) -> str:
        types = {facts.type_name for facts in _facts(tree, column, tables)}
        return types.pop() if len(types) == 1 else ""

    def never_null(column: exp.Column) -> bool:
        found = _facts(tree, column, tables)
        outer = any(join.side for join in tree.find_all(exp.Join))
        return bool(found) and not outer and all(facts.not_null for facts in found)

    def labelled(column: exp.Column) -> bool:
        found = _facts(tree, column, tables)
        return bool(found) and all(facts.labelled for facts in found)

    return Known(type_of, never_null, dialect, labelled)


def _facts(
    tree: exp.Expr, column: exp.Column, tables: Mapping[TableName, TableFacts]
) -> Sequence[ColumnFacts]:
    """The columns that a name may mean."""
    aliases = {t.alias_or_name: t.name for t in tree.find_all(exp.Table)}
    named = aliases.get(column.table, column.table)
    return [
        facts.columns[column.name]
        for name, facts in tables.items()
        if column.name in facts.columns and named in ("", name.name)
    ]
