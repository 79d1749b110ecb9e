"""What the columns of a statement are compared with, and which columns it names at all."""

from __future__ import annotations

from sqlglot import exp

from humble_ledger.core.remedies.rewrites.model import parsed
from humble_ledger.core.statements.kinds import Statement

_COMPARED = (exp.Predicate, exp.Between, exp.In)


def constants(statement: Statement) -> dict[str, list[str]]:
    """For each column name, the constants and parameters that stand in a comparison with it.

    Nothing when the statement cannot be read.
    """
    tree = parsed(statement.sql)
    found: dict[str, list[str]] = {}
    for comparison in tree.find_all(*_COMPARED) if tree is not None else ():
        if comparison.find(exp.Select) is not None:
            continue  # its own comparisons are looked at by themselves
        values = [v for v in _values(comparison, statement.values) if v is not None]
        for column in comparison.find_all(exp.Column):
            found.setdefault(column.name, []).extend(values)
    return {name: list(dict.fromkeys(values)) for name, values in found.items()}


def columns_named(statement: Statement) -> frozenset[str] | None:
    """The names of all columns that stand in a statement; None when that cannot be told."""
    tree = parsed(statement.sql)
    if tree is None:
        return None
    return frozenset(column.name for column in tree.find_all(exp.Column))


def _values(comparison: exp.Expr, parameters: tuple[str | None, ...]) -> list[str | None]:
    found: list[str | None] = [str(each.this) for each in comparison.find_all(exp.Literal)]
    for each in comparison.find_all(exp.Parameter):
        number = str(each.name)
        if number.isdigit() and 0 < int(number) <= len(parameters):
            found.append(parameters[int(number) - 1])
    return found
