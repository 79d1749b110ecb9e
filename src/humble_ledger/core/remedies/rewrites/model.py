"""A statement's tree beside what is known of its tables; what every rewriting works on."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.conjuncts import conjuncts

ALWAYS = ""  # the condition of a rewriting that means the same whatever the data


@dataclass(frozen=True, slots=True)
class Rewriting:
    """A statement written another way: what was done, and when it means the same.

    ``same_when`` is "" when it always does. ``question`` tells that the result is meant to
    differ, so that somebody who knows the purpose must say. ``values_from`` is a statement
    whose one row gives the new statement's parameters. ``against`` names the symptoms whose
    cause it takes away; none when it may help with any. ``always_asked``: a plan may show no
    trouble although the planner knows a far better one for this.
    """

    sql: str
    done: str
    same_when: str = ALWAYS
    question: bool = False
    values_from: str = ""
    against: tuple[str, ...] = ()
    always_asked: bool = False


@dataclass(frozen=True, slots=True)
class Reading:
    """A SELECT at the outermost level, the tables in its FROM by alias, and all that are known."""

    tree: exp.Select
    tables: Mapping[str, TableFacts]
    known: Mapping[TableName, TableFacts]
    dialect: Dialect = STANDARD

    def written(self, tree: exp.Expr) -> str:
        """A tree made of this one as SQL on several lines."""
        return written(tree, self.dialect)

    def words(self, part: exp.Expr) -> str:
        """A part of a statement on one line."""
        return part.sql(dialect=self.dialect.parser)

    def copy(self) -> exp.Select:
        """A tree to change."""
        return self.tree.copy()

    def alias_of(self, column: exp.Column) -> str:
        """The alias of the table a column is of; "" when that cannot be told."""
        if column.table:
            return column.table if column.table in self.tables else ""
        having = [a for a, facts in self.tables.items() if column.name in facts.columns]
        return having[0] if len(having) == 1 else ""

    def aliases_in(self, part: exp.Expr) -> set[str]:
        """The aliases whose columns stand in a part of the statement; "" for an unknown one."""
        return {self.alias_of(column) for column in part.find_all(exp.Column)}


def read(
    sql: str, tables: Mapping[TableName, TableFacts], dialect: Dialect = STANDARD
) -> Reading | None:
    """A statement that is one SELECT over known tables; None for all others."""
    tree = parsed(sql, dialect)
    if not isinstance(tree, exp.Select) or tree.args.get("from_") is None:
        return None
    found: dict[str, TableFacts] = {}
    for source in sources(tree):
        if not isinstance(source, exp.Table):
            return None
        facts = known_table(tables, source)
        if facts is None:
            return None
        found[source.alias_or_name] = facts
    return Reading(tree, found, tables, dialect)


def parsed(sql: str, dialect: Dialect = STANDARD) -> exp.Expr | None:
    """The tree of a statement; None when it cannot be read."""
    try:
        return sqlglot.parse_one(sql, dialect=dialect.parser)
    except (SqlglotError, RecursionError):
        return None


def known_table(tables: Mapping[TableName, TableFacts], source: exp.Table) -> TableFacts | None:
    """The table that a name stands for; one without a schema when only one has that name."""
    if source.db:
        return tables.get(TableName(source.db, source.name))
    found = [facts for name, facts in tables.items() if name.name == source.name]
    return found[0] if len(found) == 1 else None


def sources(tree: exp.Select) -> list[exp.Expr]:
    """What stands in FROM and its joins, in order."""
    first = tree.args["from_"].this
    return [first, *(join.this for join in tree.args.get("joins") or ())]


def only_inner_joins(tree: exp.Select) -> bool:
    """Whether the tables are joined by nothing but commas, JOIN … ON and CROSS JOIN."""
    return all(
        not join.args.get("side")
        and not join.args.get("using")
        and join.args.get("method") in (None, "")
        and (join.args.get("kind") or "") in ("", "INNER", "CROSS")
        for join in tree.args.get("joins") or ()
    )


def all_conditions(tree: exp.Select) -> list[exp.Expr]:
    """The parts of WHERE and of every ON, as if all stood in WHERE."""
    where = tree.args.get("where")
    found = conjuncts(where.this if where is not None else None)
    for join in tree.args.get("joins") or ():
        found += conjuncts(join.args.get("on"))
    return found


def plain(tree: exp.Select, *without: str) -> bool:
    """Whether a SELECT has none of these clauses."""
    return not any(tree.args.get(name) for name in without)


def is_unique(table: TableFacts, columns: Iterable[str]) -> bool:
    """Whether no two rows of a table have the same values in these columns."""
    given = set(columns)
    return any(
        index.unique
        and index.valid
        and not index.predicate
        and "" not in index.key_columns
        and set(index.key_columns) <= given
        and (index.primary or all(table.columns[c].not_null for c in index.key_columns))
        for index in table.indexes
    )


def written(tree: exp.Expr, dialect: Dialect = STANDARD) -> str:
    """The tree as SQL on several lines."""
    return tree.sql(dialect=dialect.parser, pretty=True)
