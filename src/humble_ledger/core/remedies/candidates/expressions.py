"""Indexes on an expression that a condition compares with constants, or that rows are first by."""

from __future__ import annotations

import re
from collections.abc import Iterator

from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import SORTS, Operation, Plan
from humble_ledger.core.plans.paths import path_to
from humble_ledger.core.remedies.candidates.keys import (
    MOST_EQUALITIES,
    as_keys,
    by_telling,
)
from humble_ledger.core.remedies.candidates.model import Access, Candidate, IndexAbilities
from humble_ledger.core.remedies.candidates.uses import serves
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import IndexKey, TableFacts
from humble_ledger.core.statements.brackets import without_brackets
from humble_ledger.core.statements.conditions import (
    Predicate,
    PredicateKind,
    Wrapping,
    columns_of,
    predicates,
)
from humble_ledger.core.statements.parting import halves, same_text, unqualified
from humble_ledger.core.statements.tokens import TokenKind, meaningful

# One call, which needs no brackets of its own as a key.
_CALL = re.compile(r"(?!extract\()[a-z_][a-z0-9_]*\([^()]*\)", re.IGNORECASE)
# What is looked for in the column, or the moment that a time is counted to, is a part of the
# expression: an index for one question alone.
_FOR_ONE_QUESTION = re.compile(
    r"\b(?:position|strpos|locate|instr)\s*\(|'::(?:date|timestamp[a-z ]*)\s*-", re.IGNORECASE
)
_KINDS = (PredicateKind.EQUALITY, PredicateKind.MEMBERSHIP, PredicateKind.RANGE)


def expressions(plan: Plan, access: Access, means: IndexAbilities) -> Iterator[Candidate]:
    """An index on each expression, alone and behind the columns compared for equality.

    And on all that are compared for equality together.
    """
    equal = by_telling(access)[:MOST_EQUALITIES]
    together: dict[IndexKey, str] = {}
    for predicate in access.others:
        text = expression_of(predicate, access.alias)
        if not text or not means.is_immutable(access.table.name, text):
            continue
        if _FOR_ONE_QUESTION.search(text):
            continue
        if means.keys_tell_kinds and not _of_one_kind(predicate, access.table):
            continue
        key = IndexKey("", text if _CALL.fullmatch(text) else f"({text})")
        if predicate.equal and predicate.operator == "=":
            together[key] = predicate.plain
        for columns in ([], equal) if equal else ([],):
            keys = (*as_keys(columns), key)
            if not _served(keys, access.table):
                use = message("index-for-expression", condition=predicate.plain)
                reason = serves(use, equal=columns)
                yield Candidate(IndexDesign(access.table.name, keys), access, reason)
    keys = tuple(together)[:MOST_EQUALITIES]
    if len(keys) > 1 and not _served(keys, access.table):
        use = message("index-for-expressions", conditions=[together[key] for key in keys])
        yield Candidate(IndexDesign(access.table.name, keys), access, use)


_DECIMALS = ("decimal", "numeric")
# What gives whole numbers, whatever it is given.
_COUNTING = re.compile(
    r"(?:year|month|day\w*|week\w*|quarter|hour|minute|second|to_days|datediff|extract|length"
    r"|char_length|octet_length|sign|locate|instr)\s*\(",
    re.IGNORECASE,
)
_A_NUMBER = re.compile(r"\(*-?\d+(?P<part>\.\d+)?\)*")


def _of_one_kind(predicate: Predicate, table: TableFacts) -> bool:
    """Whether an expression and the number it is compared with are both whole, or both decimal."""
    compared = _A_NUMBER.fullmatch(predicate.value.strip())
    column = table.columns.get(predicate.column.column) if predicate.column else None
    if compared is None or column is None or _COUNTING.search(predicate.expression):
        return True
    decimal = column.type_name.lower().startswith(_DECIMALS) or any(
        token.kind is TokenKind.NUMBER and "." in token.text
        for token in meaningful(predicate.expression)
    )
    return decimal == bool(compared["part"])


def joined_expressions(plan: Plan, access: Access, means: IndexAbilities) -> Iterator[Candidate]:
    """An index on an expression of this table's columns that another table's is joined by."""
    texts = [t for n in plan.nodes() for t in (*n.conditions.join, *n.conditions.search)]
    for predicate in (p for text in texts for p in predicates(text)):
        parted = halves(predicate.sql)
        if predicate.kind is not PredicateKind.EQUALITY or predicate.partner is None or not parted:
            continue
        for mine, other in ((parted[0], parted[2]), (parted[2], parted[0])):
            own = _joined_key(mine, other, access)
            if own is None or not means.is_immutable(access.table.name, own.expression):
                continue
            if not _served((own,), access.table):
                use = message("index-for-joined-expression", condition=predicate.plain)
                yield Candidate(IndexDesign(access.table.name, (own,)), access, use)


def _joined_key(mine: str, other: str, access: Access) -> IndexKey | None:
    """One side of a join as a key: an expression of this table, where the other is none of it."""
    refs, others = columns_of(mine), columns_of(other)
    bare = without_brackets(mine)
    if not refs or any(ref.alias != access.alias for ref in refs) or "(" not in bare:
        return None
    if not others or any(ref.alias == access.alias for ref in others):
        return None
    if any(ref.column not in access.table.columns for ref in refs):
        return None
    own = unqualified(bare, access.alias)
    return IndexKey("", own if _CALL.fullmatch(own) else f"({own})")


def ordered_expressions(plan: Plan, access: Access, means: IndexAbilities) -> Iterator[Candidate]:
    """An index in the order of an expression, where only the first rows are wanted."""
    for node in plan.nodes():
        limited = any(n.operation is Operation.LIMIT for n in path_to(plan.root, node)[:-1])
        if node.operation not in SORTS or not limited or len(node.sort_keys) != 1:
            continue
        key = _ordered_key(node.sort_keys[0], access)
        if key is None or not means.is_immutable(access.table.name, key.expression):
            continue
        if not _served((key,), access.table):
            use = message("index-for-first-by", expression=key.expression)
            yield Candidate(IndexDesign(access.table.name, (key,)), access, use)


def _ordered_key(text: str, access: Access) -> IndexKey | None:
    """The key "lower(c.name) DESC" of one table's columns; None for a bare column and all else."""
    words = meaningful(text)
    while words and words[-1].is_word("desc", "asc", "nulls", "first", "last"):
        words = words[:-1]
    refs = columns_of(text[: words[-1].end]) if words else ()
    if not refs or len(words) <= 3 or any(r.alias not in (access.alias, "") for r in refs):
        return None
    if any(ref.column not in access.table.columns for ref in refs):
        return None
    own = unqualified(without_brackets(text[: words[-1].end]), access.alias)
    behind = {t.text.lower() for t in meaningful(text[words[-1].end :])}
    descending = "desc" in behind
    nulls_first = "first" in behind if "nulls" in behind else descending
    return IndexKey("", own if _CALL.fullmatch(own) else f"({own})", descending, nulls_first)


def expression_of(predicate: Predicate, alias: str) -> str:
    """The expression of its columns that a table is compared by with constants; "" for none."""
    compared = predicate.kind in _KINDS or bool(predicate.several)
    flag = predicate.kind is PredicateKind.TRUTH
    if not (compared or flag) or predicate.wrapping is Wrapping.NONE or predicate.negated:
        return ""
    if flag:
        first = meaningful(predicate.sql)[0]
        text = predicate.sql[first.end :] if first.is_word("not") else predicate.sql
        return unqualified(without_brackets(text), alias)
    parted = halves(predicate.sql)
    if parted is None:
        return ""
    wanted = {ref.column for ref in predicate.several or (predicate.column,) if ref is not None}
    for side in (parted[0], without_brackets(parted[2])):
        if wanted and wanted == {ref.column for ref in columns_of(side)}:
            return unqualified(side, alias)
    return ""


def _served(keys: tuple[IndexKey, ...], table: TableFacts) -> bool:
    return any(
        index.valid and not index.predicate and len(index.keys) >= len(keys)
        and all(_same(a, b) for a, b in zip(index.keys, keys, strict=False))
        for index in table.indexes
    )  # fmt: skip


def _same(one: IndexKey, other: IndexKey) -> bool:
    return one.column == other.column and same_text(one.expression, other.expression)
