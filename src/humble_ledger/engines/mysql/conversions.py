"""Columns that the server converts for a comparison, which no text of a plan shows.

A text compared with a number is compared as a number (documented, "Type Conversion in Expression
Evaluation"), and with a text of a wider character set as one of that: each value of the column is
converted, and no index on it can be searched.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping, Sequence

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts, TableName
from humble_ledger.core.statements.conditions import (
    ColumnRef,
    Predicate,
    PredicateKind,
    Wrapping,
    is_bare_column,
    predicates,
)
from humble_ledger.engines.mysql.plans.notation import identifier
from humble_ledger.engines.mysql.plans.steps import Step

_TEXTS = ("char", "text", "enum", "set")
_NUMBERS = ("int", "decimal", "float", "double", "bit", "year")
_NUMBER = re.compile(r"-?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?")
NUMBER = "double precision"
# Warning 1739.
_WARNED = re.compile(r"due to type or collation conversion on field '([^']+)'")
_COMPARED = frozenset((PredicateKind.EQUALITY, PredicateKind.RANGE, PredicateKind.MEMBERSHIP))


def converted_columns(
    plan: Plan, tables: Mapping[TableName, TableFacts], warnings: Sequence[str] = ()
) -> dict[str, str]:
    """Columns (alias.column) that the plan's conditions compare as something else, and as what.

    By the types of what is compared, and by the server's own ``warnings``: where a row of one table
    alone is joined, the plan shows its value as a text, whatever it was.
    """
    warned = {told[1] for each in warnings if (told := _WARNED.search(each))}
    facts = {node.alias: tables[_name(node.schema, node.relation)]
             for node in plan.nodes()
             if node.alias and _name(node.schema, node.relation) in tables}  # fmt: skip
    found: dict[str, str] = {}
    for node in plan.nodes():
        for text in node.conditions.all():
            for part in predicates(text):
                for ref, type_ in _converted(part, facts):
                    found[f"{ref.alias}.{ref.column}"] = type_
                if part.column is not None and _is_warned(part, part.column, warned, facts):
                    found[f"{part.column.alias}.{part.column.column}"] = NUMBER
    return found


def _is_warned(
    part: Predicate, ref: ColumnRef, warned: Collection[str], tables: Mapping[str, TableFacts]
) -> bool:
    if part.wrapping is not Wrapping.NONE or part.partner is not None:
        return False
    own = _column(ref, tables)
    return own is not None and ref.column in warned and _is(own, _TEXTS)


def _name(schema: str, relation: str) -> TableName:
    return TableName(schema, relation)


def _converted(
    part: Predicate, tables: Mapping[str, TableFacts]
) -> Iterable[tuple[ColumnRef, str]]:
    if part.column is None or part.wrapping is not Wrapping.NONE or part.kind not in _COMPARED:
        return
    own = _column(part.column, tables)
    if own is None:
        return
    if part.partner is not None:
        if not is_bare_column(part.value):
            return  # computed from a column: of which type, the server alone knows
        other = _column(part.partner, tables)
        if other is not None and _is(own, _TEXTS) and _is(other, _NUMBERS):
            yield part.column, NUMBER
        elif other is not None and _is(own, _NUMBERS) and _is(other, _TEXTS):
            yield part.partner, NUMBER
        elif other is not None and own.collation and other.collation:
            one, two = _reach(own.collation), _reach(other.collation)
            if one != two:
                yield (part.column if one < two else part.partner), "text"
    elif _is(own, _TEXTS) and all(map(_NUMBER.fullmatch, _constants(part.value))):
        yield part.column, NUMBER


def _reach(collation: str) -> int:
    """How many characters a collation's set has beside others: texts are converted to the wider.

    Documented, "Collation Coercibility in Expressions": a set's texts go into its superset.
    """
    return {"utf8mb4": 2, "utf8": 1, "utf8mb3": 1}.get(collation.partition("_")[0], 0)


def _constants(value: str) -> list[str]:
    """The constants of a comparison; one that is none of a number where it has others."""
    return [each.strip() for each in value.strip("() ").split(",")] or [""]


def _column(ref: ColumnRef, tables: Mapping[str, TableFacts]) -> ColumnFacts | None:
    table = tables.get(ref.alias)
    return table.columns.get(ref.column) if table is not None else None


def _is(column: ColumnFacts, kinds: tuple[str, ...]) -> bool:
    return any(kind in column.type_name.lower() for kind in kinds)


def show_conversions(step: Step, columns: Mapping[str, str] | Sequence[str]) -> None:
    """Write the conversion around these columns in the conditions of a step and all below it.

    Documents of earlier versions name columns alone: those were compared as numbers.
    """
    types = columns if isinstance(columns, Mapping) else dict.fromkeys(columns, NUMBER)
    for each, type_ in types.items():
        alias, _, column = each.partition(".")
        name = f"{identifier(alias)}.{identifier(column)}"
        pattern = re.compile(rf'(?<![\w."(])(?<!CAST\(){re.escape(name)}(?![\w."])')
        inside = re.compile(rf"(?<=\(){re.escape(name)}(?= ?(?:=|<|>|in\b|IN\b))")
        _shown(step, (pattern, inside), f"CAST({name} AS {type_})")


def _shown(step: Step, patterns: tuple[re.Pattern[str], ...], instead: str) -> None:
    def change(texts: tuple[str, ...]) -> tuple[str, ...]:
        for pattern in patterns:
            texts = tuple(pattern.sub(lambda _: instead, text) for text in texts)
        return texts

    step.search, step.filter, step.join = map(change, (step.search, step.filter, step.join))
    for child in step.children:
        _shown(child, patterns, instead)
