"""Indexes sorted or taken apart another way: beginnings of texts, parts of them, containment."""

from __future__ import annotations

from collections.abc import Iterator

from humble_ledger.core.messages import Message, message
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.keys import as_keys, by_telling
from humble_ledger.core.remedies.candidates.model import Access, Candidate, IndexAbilities
from humble_ledger.core.remedies.candidates.uses import serves
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.collations import finds_beginnings
from humble_ledger.core.schema.containment import inverted_key
from humble_ledger.core.schema.facts import ColumnFacts, IndexKey, TableFacts
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.schema.operator_classes import BY_BYTES, PARTS_OF_TEXTS, base_type
from humble_ledger.core.statements.conditions import Predicate, PredicateKind, Wrapping
from humble_ledger.core.statements.parting import halves, literals_of, same_text

_FEWEST_LETTERS = 3  # a part of a text can be looked up from so many letters on


def operator_classes(plan: Plan, access: Access, means: IndexAbilities) -> Iterator[Candidate]:
    """For patterns and containment, where the server has the operator class."""
    for predicate in access.others:
        if predicate.negated:
            continue
        if predicate.kind is PredicateKind.OTHER:
            yield from _for_containment(access, predicate, means)
        column = predicate.column and access.table.columns.get(predicate.column.column)
        if not column or predicate.kind is not PredicateKind.PATTERN:
            continue
        if predicate.wrapping is Wrapping.NONE:
            yield from _for_pattern(access, predicate, column, means)


def prefix_of(predicate: Predicate, column: ColumnFacts | None = None) -> str:
    """The fixed beginning that a pattern asks for; "" when there is none or case is ignored.

    What LIKE compares, where a server prints it as that word, is told by the ``column``.
    """
    parted = halves(predicate.sql)
    in_words = column is not None and column.like_in_any_order
    if parted is None or parted[1] not in ("~~", "~", *(("LIKE",) if in_words else ())):
        return ""
    (text, *_) = literals_of(parted[2]) or [""]
    if parted[1] == "~":
        return _until(text[1:], ".*+?[(|{\\$^") if text.startswith("^") else ""
    return _until(text, "%_\\")


def is_regular(predicate: Predicate) -> bool:
    """Whether a pattern is a regular expression."""
    parted = halves(predicate.sql)
    return parted is not None and parted[1] == "~"


def bounds_of(predicate: Predicate, *, patterned: bool) -> tuple[str, ...]:
    """The two comparisons by which a sorted index finds a pattern's beginning; () without one.

    The planner prices such an index by these and not by the pattern. ``patterned``: the index
    is sorted by an operator class for patterns, which has operators of its own.
    """
    beginning = prefix_of(predicate) if predicate.kind is PredicateKind.PATTERN else ""
    parted = halves(predicate.sql)
    if not beginning or parted is None:
        return ()
    after = beginning[:-1] + chr(ord(beginning[-1]) + 1)
    operators = ("~>=~", "~<~") if patterned else (">=", "<")
    texts = (text.replace("'", "''") for text in (beginning, after))
    return tuple(
        f"{parted[0]} {operator} '{text}'" for operator, text in zip(operators, texts, strict=True)
    )


def _until(text: str, ends: str) -> str:
    for place, letter in enumerate(text):
        if letter in ends:
            return text[:place]
    return text


def _for_pattern(
    access: Access, predicate: Predicate, column: ColumnFacts, means: IndexAbilities
) -> Iterator[Candidate]:
    type_ = base_type(column.type_name)
    served = finds_beginnings(IndexKey(column.name), column, regular=is_regular(predicate))
    classed = type_ in BY_BYTES and not column.like_in_any_order
    if prefix_of(predicate, column) and (served or classed):
        class_ = "" if served else BY_BYTES[type_]
        key = IndexKey(column.name, operator_class=class_)
        equal = by_telling(access)[:2]
        for columns in ([], equal) if equal else ([],):
            keys = (*as_keys(columns), key)
            if not _begins(keys, access.table):
                use = message("index-for-beginning", condition=predicate.plain)
                reason = serves(use, equal=columns)
                yield Candidate(IndexDesign(access.table.name, keys), access, reason)
    elif (
        f"{IndexMethod.INVERTED}:{PARTS_OF_TEXTS}" in means.operator_classes
        and type_ in BY_BYTES
        and max(map(len, _pieces(predicate)), default=0) >= _FEWEST_LETTERS
    ):
        key = IndexKey(column.name, operator_class=PARTS_OF_TEXTS)
        use = message("index-for-part", condition=predicate.plain)
        yield from _inverted(access, key, use)


def _for_containment(
    access: Access, predicate: Predicate, means: IndexAbilities
) -> Iterator[Candidate]:
    key = inverted_key(predicate, access.table, access.alias)
    if key is None:
        return
    if not key.expression or means.is_immutable(access.table.name, key.expression):
        use = message("index-for-inside", condition=predicate.plain)
        yield from _inverted(access, key, use)


def _inverted(access: Access, key: IndexKey, use: Message) -> Iterator[Candidate]:
    held = any(
        index.valid
        and index.method == IndexMethod.INVERTED
        and not index.predicate
        and any(_same_key(key, each) for each in index.keys)
        for index in access.table.indexes
    )
    if not held:
        yield Candidate(
            IndexDesign(access.table.name, (key,), method=IndexMethod.INVERTED), access, use
        )


def _same_key(one: IndexKey, other: IndexKey) -> bool:
    return (
        one.column == other.column
        and one.operator_class == other.operator_class
        and same_text(one.expression, other.expression)
    )


def _pieces(predicate: Predicate) -> list[str]:
    parted = halves(predicate.sql)
    (text, *_) = (literals_of(parted[2]) if parted else []) or [""]
    for letter in "%_.*+?[](){}|\\^$":
        text = text.replace(letter, " ")
    return text.split()


def _begins(keys: tuple[IndexKey, ...], table: TableFacts) -> bool:
    return any(
        index.valid and index.method == IndexMethod.SORTED and not index.predicate
        and index.keys[: len(keys)] == keys
        for index in table.indexes
    )  # fmt: skip
