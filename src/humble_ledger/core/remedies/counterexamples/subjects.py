"""The tables that statements read, of which small ones can be made."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from sqlglot import exp

from humble_ledger.core.remedies.rewrites.model import known_table, parsed
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.kinds import Statement


def unknown_tables(
    statements: Iterable[Statement], known: Mapping[TableName, TableFacts], schema: str
) -> list[TableName]:
    """Tables that statements name and of which nothing is known; ``schema`` is the default one."""
    found = [s for each in statements for s in _sources(each) if known_table(known, s) is None]
    return list(dict.fromkeys(TableName(s.db or schema, s.name) for s in found if s.name))


def tables_of(
    statements: Iterable[Statement], known: Mapping[TableName, TableFacts]
) -> Mapping[TableName, TableFacts] | str:
    """The tables of all statements; why that cannot be told, else.

    A view has other tables behind it, which keep their rows.
    """
    found: dict[TableName, TableFacts] = {}
    for source in (source for each in statements for source in _sources(each)):
        facts = known_table(known, source)
        if facts is None or facts.kind not in ("table", "partitioned"):
            return f"{source.name or 'a source of rows'} is no table that is known"
        found[facts.name] = facts
    return found or "it reads no table"


def _sources(statement: Statement) -> list[exp.Table]:
    """The tables in every FROM; none for a statement that cannot be read."""
    tree = parsed(statement.sql)
    if tree is None:
        return []
    made = {cte.alias_or_name for cte in tree.find_all(exp.CTE)}
    return [t for t in tree.find_all(exp.Table) if t.db or t.name not in made]
