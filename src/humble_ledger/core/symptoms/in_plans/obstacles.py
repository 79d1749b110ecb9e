"""What keeps an index from leading to the rows of a condition.

Told for the condition that keeps the fewest rows: it is the one an index should serve.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

from humble_ledger.core.estimates.guessed import share_by_statistics
from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import Node
from humble_ledger.core.schema.casts import real_wrapping
from humble_ledger.core.schema.collations import finds_beginnings
from humble_ledger.core.schema.containment import inverted_key
from humble_ledger.core.schema.enclosing import Sought, holding, sought
from humble_ledger.core.schema.facts import ColumnFacts, IndexFacts, TableFacts, TableName
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.schema.networks import lies_between
from humble_ledger.core.schema.operator_classes import BY_BYTES, base_type, sorts_by_bytes
from humble_ledger.core.statements.conditions import (
    NULL_SAFE,
    Predicate,
    PredicateKind,
    Wrapping,
)
from humble_ledger.core.statements.conversions import converted_columns
from humble_ledger.core.statements.parting import halves, same_text, unqualified
from humble_ledger.core.statements.plainly import plainly
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.model import Cause

NOT_CHOSEN = "index-not-chosen"
GENERIC = "generic-plan"
MOST_ASKED = 6
_SERVED = frozenset((PredicateKind.EQUALITY, PredicateKind.RANGE, PredicateKind.MEMBERSHIP))
_CALL = re.compile(r"([a-z_][a-z0-9_.]*)\(", re.IGNORECASE)
# Functions of the clock: their value is fixed for one statement, and another in the next.
_CLOCK = re.compile(
    r"\b(now\(\)|current_(?:timestamp|date|time)|localtimestamp|localtime|transaction_timestamp\(\)"
    r"|statement_timestamp\(\)|clock_timestamp\(\)|timeofday\(\)|age\([^,()]*\))",
    re.IGNORECASE,
)
_PATTERN_TEXT = re.compile(r"CAST\('((?:[^']|'')*)' AS|'((?:[^']|'')*)'")
_WILDCARDS = "%_"
_ANY = "ANY("
_BEGINS_WILD = re.compile(r'(?:^|[{,])\s*["\']?[%_]')  # an element of a list of patterns
_SHELL_WILDCARDS = "*?["
_NO_EXPRESSION = re.compile(r"~~|\b(?:LIKE|GLOB)\b", re.IGNORECASE)  # but a plain pattern


def narrowest(
    case: Case, node: Node, table: TableFacts, found: Sequence[Predicate]
) -> Predicate | None:
    """The condition that keeps the fewest rows: by the planner, else by the statistics."""
    usable = [p for p in found if p.column is not None or p.choices or p.several]
    if len(usable) < 2:
        return usable[0] if usable else None
    asked = {}
    for each in usable[:MOST_ASKED]:
        rows = case.planner.rows_matching(table.name, node.alias, [each.sql])
        if rows is None:
            return min(usable, key=lambda p: share_by_statistics(table, p))
        asked[each.sql] = rows
    return min(usable[:MOST_ASKED], key=lambda p: asked[p.sql])


def generic(predicate: Predicate, expected: float, seen: float) -> Cause:
    """A plan that was made once for all values does not suit this one."""
    return Cause(
        GENERIC,
        message("one-plan-for-all-values", condition=predicate.plain, expected=expected, seen=seen),
    )


def obstacle(
    case: Case, table: TableFacts, predicate: Predicate, beside: Sequence[Predicate] = ()
) -> Cause:
    """Why no index leads to the rows of this condition; `NOT_CHOSEN` when one could.

    ``beside`` are the other conditions on the same table.
    """
    if predicate.choices:
        return _choices(table, predicate)
    if predicate.several:
        return _of_several(predicate)
    if predicate.column is None:
        return Cause(
            "condition-not-searchable", message("not-searchable", condition=predicate.plain)
        )
    column = predicate.column.column
    leading = _leading(table, column)
    return (
        _changing(case, predicate, leading)
        or _inside(table, predicate, predicate.column.alias)
        or _by_shape(table, predicate)
        or _null_safe(predicate)
        or _wrapped(case, table, predicate, leading)
        or _negation(predicate, leading)
        or _pattern(table, predicate, leading)
        or _unsearchable(predicate, table.columns.get(column))
        or _other_order(table, predicate, leading)
        or _place(table, column, leading, _fixed(beside))
    )


def obstacle_by_plan(case: Case, table: str, found: Sequence[Predicate]) -> Cause:
    """Why no index led to the rows, as far as the conditions alone show it."""
    unknown = TableFacts(TableName("", table), "table", 0.0, 0, 0)
    causes = []
    for each in found:
        if each.column is None and not each.choices and not each.several:
            continue
        # Servers write a cast to text around a column of texts, too, and it hides nothing.
        text_cast = each.wrapping is Wrapping.CAST and "AS TEXT)" in each.expression.upper()
        bare = replace(each, wrapping=Wrapping.NONE) if text_cast else each
        cause = obstacle(case, unknown, bare)
        if cause.name in ("no-index", NOT_CHOSEN, "or-over-columns"):
            cause = Cause(
                "indexes-not-known",
                message("indexes-not-known", table=table, condition=each.plain),
            )
        causes.append(cause)
    # A condition that an index could serve is the one to begin with.
    causes.sort(key=lambda cause: cause.name != "indexes-not-known")
    if causes:
        return causes[0]
    return Cause("condition-not-searchable", message("not-searchable", condition=found[0].plain))


def called(predicate: Predicate) -> set[str]:
    """The functions that a condition calls, without their schema."""
    return called_in(predicate.sql)


def called_in(text: str) -> set[str]:
    """The functions that an expression calls, without their schema."""
    return {name.lower().rsplit(".", maxsplit=1)[-1] for name in _CALL.findall(text)}


def usable_leading(table: TableFacts, predicate: Predicate) -> list[IndexFacts]:
    """The indexes that begin with the column of a condition and could serve it."""
    if predicate.column is None:
        return []
    whole = [i for i in _leading(table, predicate.column.column) if not i.predicate]
    return [i for i in whole if not _keyed_otherwise(table, i, predicate)]


def _leading(table: TableFacts, column: str) -> list[IndexFacts]:
    """Those of the whole table first: one with a condition serves few queries."""
    found = [
        i for i in table.indexes
        if i.valid and i.method == IndexMethod.SORTED and i.key_columns[:1] == (column,)
    ]  # fmt: skip
    return sorted(found, key=lambda index: bool(index.predicate))


def _changing(case: Case, predicate: Predicate, leading: Sequence[IndexFacts]) -> Cause | None:
    """A value that changes stands beside the column, or is another one for each row."""
    assert predicate.column is not None
    column = predicate.column.column
    if predicate.wrapping in (Wrapping.FUNCTION, Wrapping.ARITHMETIC) and _CLOCK.search(
        predicate.expression
    ):
        whole = leading and not leading[0].predicate
        serves = leading[0].name if whole else None
        return Cause(
            "clock-in-expression",
            message("clock-in-expression", condition=predicate.plain, column=column, index=serves),
        )
    changing = case.planner.volatile_functions(called(predicate)) or frozenset()
    if changing and predicate.wrapping is Wrapping.FUNCTION:
        name = min(changing)
        return Cause(
            "function-not-immutable",
            message("function-not-immutable", function=name, condition=predicate.plain),
        )
    if changing:
        name = min(changing)
        return Cause(
            "value-not-stable",
            message("value-not-stable", function=name, condition=predicate.plain),
        )
    return None


def _wrapped(
    case: Case, table: TableFacts, predicate: Predicate, leading: Sequence[IndexFacts]
) -> Cause | None:
    assert predicate.column is not None
    column = predicate.column.column
    wrapping = real_wrapping(table.columns.get(column), predicate)
    if wrapping is Wrapping.NONE:
        return None
    index = leading[0].name if leading else None
    partial = _of_some_rows(table, predicate)
    if partial is not None:
        return Cause(
            "partial-index-misses",
            message("partial-index-misses", index=partial.name, condition=partial.predicate),
        )
    if wrapping is Wrapping.CAST:
        return Cause(
            "type-mismatch",
            message(
                "column-converted",
                index=index,
                column=column,
                condition=predicate.plain,
                by_text=column in converted_columns(case.statement, case.dialect.parser),
            ),
        )
    inside = message(
        "column-inside",
        index=index,
        column=column,
        arithmetic=wrapping is Wrapping.ARITHMETIC,
        condition=predicate.plain,
    )
    return Cause("function-on-column", inside)


def _of_several(predicate: Predicate) -> Cause:
    names = [ref.column for ref in predicate.several]
    return Cause(
        "function-on-column",
        message("columns-computed", columns=names, condition=predicate.plain),
    )


def _of_some_rows(table: TableFacts, predicate: Predicate) -> IndexFacts | None:
    """An index that begins with the very expression that is compared, but holds some rows only.

    None where another one holds all.
    """
    parts = halves(predicate.sql)
    if parts is None or predicate.column is None:
        return None
    asked = unqualified(parts[0], predicate.column.alias)
    found = [
        index
        for index in table.indexes
        if index.valid and index.keys and same_text(index.keys[0].expression, asked)
    ]
    return found[0] if found and all(index.predicate for index in found) else None


def _inside(table: TableFacts, predicate: Predicate, alias: str) -> Cause | None:
    """A condition on what a value holds, which only an inverted index can serve."""
    key = inverted_key(predicate, table, alias)
    if key is None:
        return None
    name = key.column or key.expression
    held = [
        i for i in table.indexes
        if i.valid and i.method == IndexMethod.INVERTED and (
            key.column in i.key_columns if key.column
            else any(same_text(key.expression, each.expression) for each in i.keys)
        )
    ]  # fmt: skip
    if held:
        return Cause(NOT_CHOSEN, message("holds-and-not-used", index=held[0].name, column=name))
    return Cause(
        "no-index",
        message("no-inverted-index", condition=predicate.plain, column=name),
    )


def _null_safe(predicate: Predicate) -> Cause | None:
    if predicate.operator != NULL_SAFE or predicate.wrapping is not Wrapping.NONE:
        return None
    assert predicate.column is not None
    column = predicate.column.column
    return Cause(
        "null-safe-comparison",
        message("null-safe-comparison", column=column),
    )


def _by_shape(table: TableFacts, predicate: Predicate) -> Cause | None:
    """A condition on what lies where, which a tree of enclosing shapes serves on a bare column."""
    assert predicate.column is not None
    for each in sought(predicate.sql, table, predicate.column.alias):
        held = holding(table, each)
        if held is not None:
            return Cause(NOT_CHOSEN, message("finds-and-not-used", index=held.name))
        if each.column:
            return Cause(
                "no-index",
                message(
                    "no-index-of-shapes",
                    of=each.of,
                    method=IndexMethod.ENCLOSING,
                    condition=predicate.plain,
                ),
            )
        on_column = holding(table, Sought(each.of, each.of, ""))
        return Cause(
            "function-on-column",
            message(
                "shape-converted",
                index=on_column.name if on_column else None,
                of=each.of,
                expression=plainly(each.expression),
            ),
        )
    return None


def _negation(predicate: Predicate, leading: Sequence[IndexFacts]) -> Cause | None:
    if not predicate.negated:
        return None
    assert predicate.column is not None
    return Cause(
        "negation",
        message("negation", index=leading[0].name if leading else None, condition=predicate.plain),
    )


def _pattern(
    table: TableFacts, predicate: Predicate, leading: Sequence[IndexFacts]
) -> Cause | None:
    if predicate.kind is not PredicateKind.PATTERN:
        return None
    assert predicate.column is not None
    column = predicate.column.column
    if predicate.value.startswith(_ANY):
        return _patterns(predicate)
    text = _literal(predicate.value)
    regular = _NO_EXPRESSION.search(predicate.sql) is None
    wild = _SHELL_WILDCARDS if " GLOB " in predicate.sql else _WILDCARDS
    if text is not None and (not text.startswith("^") if regular else text[:1] in wild):
        return Cause(
            "leading-wildcard",
            message("leading-wildcard", condition=predicate.plain, regular=regular),
        )
    if "~~*" in predicate.sql or " ~* " in predicate.sql:
        return Cause(
            "case-insensitive-match",
            message("case-insensitive-match", condition=predicate.plain, column=column),
        )
    facts = table.columns.get(column)
    if facts is not None and facts.like_in_any_order and regular:
        return Cause(
            "condition-not-searchable",
            message("no-search-by-regular-expression", condition=predicate.plain),
        )
    for index in leading:
        key = index.keys[0]
        if not sorts_by_bytes(key) and not finds_beginnings(key, facts, regular=regular):
            sorted_by = key.collation or table.columns[column].collation
            return Cause(
                "sort-order-mismatch",
                message(
                    "sorted-for-no-patterns",
                    index=index.name,
                    collation=sorted_by,
                    operator_class=BY_BYTES.get(base_type(table.columns[column].type_name), ""),
                ),
            )
    return None


def _patterns(predicate: Predicate) -> Cause:
    """Of a list of patterns, which no b-tree is searched by, whatever they begin with."""
    listed = [one or other for one, other in _PATTERN_TEXT.findall(predicate.value)]
    if any(_BEGINS_WILD.search(text) for text in listed):
        told = message("leading-wildcard", condition=predicate.plain, regular=False)
        return Cause("leading-wildcard", told)
    return Cause(
        "condition-not-searchable",
        message("no-search-by-patterns", condition=predicate.plain),
    )


def _unsearchable(predicate: Predicate, facts: ColumnFacts | None) -> Cause | None:
    others = (PredicateKind.PATTERN, PredicateKind.NULL_TEST, PredicateKind.TRUTH)
    if predicate.kind in (*_SERVED, *others) or lies_between(predicate, facts):
        return None
    return Cause(
        "condition-not-searchable", message("no-search-by-btree", condition=predicate.plain)
    )


def _other_order(
    table: TableFacts, predicate: Predicate, leading: Sequence[IndexFacts]
) -> Cause | None:
    """An index is there, sorted by an operator class or collation the condition does not use."""
    if not leading or not all(_keyed_otherwise(table, index, predicate) for index in leading):
        return None
    key = leading[0].keys[0]
    return Cause(
        "sort-order-mismatch",
        message(
            "sorted-by-another-rule",
            index=leading[0].name,
            operator_class=key.operator_class,
            collation=_collation(table, leading[0]),
            condition=predicate.plain,
        ),
    )


def _collation(table: TableFacts, index: IndexFacts) -> str:
    """The collation that an index is sorted by: its own, else its column's."""
    key = index.keys[0]
    column = table.columns.get(key.column)
    return key.collation or (column.collation if column is not None else "")


def _keyed_otherwise(table: TableFacts, index: IndexFacts, predicate: Predicate) -> bool:
    key = index.keys[0]
    asked = re.search(r'COLLATE "([^"]+)"', predicate.sql)
    column = table.columns.get(key.column)
    wanted = asked[1] if asked is not None else column.collation if column is not None else ""
    if wanted != _collation(table, index) and predicate.kind is not PredicateKind.NULL_TEST:
        return True
    return sorts_by_bytes(key) and predicate.kind is PredicateKind.RANGE


def _fixed(found: Sequence[Predicate]) -> frozenset[str]:
    """The columns that conditions fix to one value."""
    return frozenset(
        p.column.column
        for p in found
        if p.column and p.kind is PredicateKind.EQUALITY and p.searchable
    )


def _place(
    table: TableFacts,
    column: str,
    leading: Sequence[IndexFacts],
    fixed: frozenset[str] = frozenset(),
) -> Cause:
    leading = leading or _led_to(table, column, fixed)
    whole = [index for index in leading if not index.predicate]
    if leading and not whole:
        return Cause(
            "partial-index-misses",
            message("partial-index-misses", index=leading[0].name, condition=leading[0].predicate),
        )
    if whole:
        return Cause(NOT_CHOSEN, message("leads-and-not-used", index=whole[0].name, column=column))
    inside = [i for i in table.indexes if i.valid and column in i.key_columns[1:]]
    if inside:
        return Cause(
            "not-the-leading-column",
            message("not-the-leading-column", index=inside[0].name, column=column),
        )
    return Cause("no-index", message("no-index", table=table.name, column=column))


def _led_to(table: TableFacts, column: str, fixed: frozenset[str]) -> list[IndexFacts]:
    """The indexes in which only columns that are fixed stand before this one."""
    return [
        index
        for index in table.indexes
        if index.valid
        and index.method == IndexMethod.SORTED
        and column in index.key_columns
        and set(index.key_columns[: index.key_columns.index(column)]) <= fixed
    ]


def _choices(table: TableFacts, predicate: Predicate) -> Cause:
    names = list(dict.fromkeys(ref.column for ref in predicate.choices))
    without = [name for name in names if not _leading(table, name)]
    if len(names) == 1:
        return _place(table, names[0], _leading(table, names[0]))
    if not without:
        served = [_leading(table, name)[0].name for name in names]
        return Cause(NOT_CHOSEN, message("serve-together-and-not-used", indexes=served))
    return Cause(
        "or-over-columns",
        message("or-over-columns", columns=names, without=without),
    )


def _literal(value: str) -> str | None:
    """The text of a pattern written as a literal; None for a parameter."""
    found = _PATTERN_TEXT.search(value)
    return None if found is None else (found[1] if found[1] is not None else found[2])
