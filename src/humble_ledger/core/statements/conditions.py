"""Conditions as a server prints them in a plan, taken apart into predicates on columns.

A plan's conditions are the server's own reading of the statement: names resolved, types
written out, conversions visible. So causes ("the column stands inside a function") and
candidates ("equality on sensor_id") are read from there rather than from the user's text.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import lru_cache

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.core.statements.brackets import without_brackets
from humble_ledger.core.statements.plainly import plainly
from humble_ledger.core.statements.sql_dialect import DIALECT
from humble_ledger.core.statements.tokens import TokenKind, meaningful, tokens


class PredicateKind(StrEnum):
    """The shape of a predicate, as far as an index cares."""

    EQUALITY = "equality"
    RANGE = "range"
    MEMBERSHIP = "membership"  # = ANY (…), IN (…)
    PATTERN = "pattern"  # LIKE and its kin
    NULL_TEST = "null-test"
    WITHIN = "within"  # a < b of networks: an index in their order has it between two ends
    TRUTH = "truth"  # a truth value alone, or NOT of it: an index has both
    OTHER = "other"


class Wrapping(StrEnum):
    """What stands between the bare column and the comparison."""

    NONE = "none"
    CAST = "cast"
    FUNCTION = "function"
    ARITHMETIC = "arithmetic"


@dataclass(frozen=True, slots=True)
class ColumnRef:
    """A column as a plan names it: the alias it is qualified with (or ""), and its name."""

    alias: str
    column: str


@dataclass(frozen=True, slots=True)
class Predicate:
    """One part of a condition that AND joins to the others.

    ``column`` is the column compared (None when there is no single one), ``wrapping`` what
    stands around it, ``expression`` that wrapped expression as SQL, ``operator`` as printed,
    ``value`` the other side as SQL, ``partner`` the column on the other side when that is
    one, ``cast_to`` the type that a cast around the column names. ``negated`` tells that it
    asks for all that does not match, ``choices`` has the columns of which it is enough that
    one matches (OR). ``several`` are the columns of one table from which an expression is
    computed; its ``column`` is None. ``sql`` is the whole predicate.
    """

    kind: PredicateKind
    sql: str
    column: ColumnRef | None = None
    wrapping: Wrapping = Wrapping.NONE
    expression: str = ""
    operator: str = ""
    value: str = ""
    partner: ColumnRef | None = None
    negated: bool = False
    choices: tuple[ColumnRef, ...] = ()
    cast_to: str = ""
    several: tuple[ColumnRef, ...] = ()

    @property
    def plain(self) -> str:
        """The predicate as people would write it."""
        return plainly(self.sql)

    @property
    def of_sub_query(self) -> bool:
        """Whether it compares with what a sub-query gives."""
        return _NAMES_SUB_QUERY.search(self.sql) is not None

    @property
    def held_against_sub_query(self) -> bool:
        """Whether each row is held against a sub-query, whose value is not known beforehand."""
        return _ROW_BY_ROW.search(self.sql) is not None

    @property
    def equal(self) -> bool:
        """Whether it asks for one value, or for one of several."""
        several = bool(self.several) and self.operator == "="
        return several or self.kind in (PredicateKind.EQUALITY, PredicateKind.MEMBERSHIP)

    @property
    def searchable(self) -> bool:
        """Whether a b-tree on the bare column could serve it.

        The value of a sub-query that is run for each row is known when the row is there.
        """
        return (
            self.column is not None
            and self.wrapping is Wrapping.NONE
            and not self.negated
            and not self.held_against_sub_query
            and self.kind in (PredicateKind.EQUALITY, PredicateKind.RANGE, PredicateKind.MEMBERSHIP)
        )


NULL_SAFE = "is not distinct from"  # as servers print it: NOT (a IS DISTINCT FROM b)
_RANGES: dict[type[exp.Expr], str] = {exp.GT: ">", exp.GTE: ">=", exp.LT: "<", exp.LTE: "<="}
_TURNED = {">": "<", ">=": "<=", "<": ">", "<=": ">="}
_PATTERNS = (exp.Like, exp.ILike, exp.RegexpLike, exp.RegexpILike, exp.SimilarTo, exp.Glob)


@lru_cache(maxsize=4096)
def predicates(condition: str) -> tuple[Predicate, ...]:
    """The predicates of one condition; one that cannot be read has the kind OTHER."""
    return tuple(_predicate(part) for part in _parts(condition))


@lru_cache(maxsize=8192)
def columns_of(text: str) -> tuple[ColumnRef, ...]:
    """Every column named in an expression, each once, in order of appearance."""
    tree = _tree(text)
    if tree is None:
        return ()
    return tuple(dict.fromkeys(_ref(column) for column in tree.find_all(exp.Column)))


_BARE_COLUMN = re.compile(r'(?:(?:\w+|"[^"]+")\.)?(?:\w+|"[^"]+")')


def is_bare_column(text: str) -> bool:
    """Whether a text is the name of a column, and nothing is computed from it."""
    return _BARE_COLUMN.fullmatch(text) is not None


def is_readable(text: str) -> bool:
    """Whether an expression of a plan can be taken apart; else `columns_of` knows none of it."""
    return _tree(text) is not None


def orders_rows(sql: str) -> bool:
    """Whether a statement asks for its rows in an order, at its outermost level."""
    depth, before = 0, ""
    for token in tokens(sql):
        depth += (token.text == "(") - (token.text == ")")
        if depth == 0 and token.is_word("by") and before == "order":
            return True
        if token.kind is TokenKind.WORD:
            before = token.text.lower()
    return False


# How the notation of conditions has the value of a sub-query, whatever server the plan is of:
# (InitPlan 1).col1 computed once, (hashed SubPlan 2).col1 looked up, (SubPlan 2) for each row.
_ROW_BY_ROW = re.compile(r"\bSubPlan \d")
# And an aggregate of which each worker computes its part.
_PARTIAL = re.compile(r"\bPARTIAL (?=[\w\"])")
_NAMES_SUB_QUERY = re.compile(r"\b(?:InitPlan|SubPlan) \d")
_SUB_QUERY = re.compile(r"\((?:hashed )?(?:InitPlan|SubPlan) (\d+)\)(?:\.col\d+)?")


def _tree(text: str) -> exp.Expr | None:
    text = _PARTIAL.sub("", _SUB_QUERY.sub(r"value_of_sub_query(\1)", text))
    try:
        return sqlglot.parse_one(text, dialect=DIALECT, into=exp.Condition)
    except (SqlglotError, RecursionError):
        return None


def _parts(condition: str) -> list[str]:
    """Part a condition at its outermost ANDs, keeping the server's own text of each part.

    Servers print no BETWEEN in plans, and put brackets around each side of AND.
    """
    text = without_brackets(condition)
    depth, start, parts = 0, 0, []
    for token in tokens(text):
        if token.text in ("(", ")"):
            depth += 1 if token.text == "(" else -1
        elif depth == 0 and token.is_word("and"):
            parts.append(text[start : token.start])
            start = token.end
    if not parts:
        return [text]
    return [piece for part in [*parts, text[start:]] for piece in _parts(part)]


_NEGATIONS = frozenset(("<>", "!=", "!~~", "!~~*", "!~", "!~*"))


def _predicate(sql: str) -> Predicate:
    within = _within(sql)
    if within is not None:
        return within
    part = _tree(sql)
    if part is None:
        return Predicate(PredicateKind.OTHER, sql)
    part = part.unnest()
    if isinstance(part, exp.Or):
        choices = tuple(dict.fromkeys(_ref(column) for column in part.find_all(exp.Column)))
        return replace(_one_sided(part, PredicateKind.OTHER, "", "", sql), choices=choices)
    found = _plain(part, sql)
    either = found.operator == NULL_SAFE or found.kind is PredicateKind.TRUTH
    return replace(found, negated=not either and _negated(sql))


# As servers print it that a network or an address lies within another network.
_LIES_WITHIN = re.compile(r"^\(?(?P<column>[\w.\"]+) <<=? (?P<value>'[^']*'::inet|\$\d+)\)?$")


def _within(sql: str) -> Predicate | None:
    """host <<= '10.0.0.0/8': the parser has no tree of this operator, or another one."""
    found = _LIES_WITHIN.match(sql.strip())
    side = _tree(found["column"]) if found is not None else None
    if found is None or not isinstance(side, exp.Column):
        return None
    return _one_sided(side, PredicateKind.WITHIN, "<<=", found["value"], sql)


def _negated(sql: str) -> bool:
    kept = meaningful(sql)
    if kept and kept[0].is_word("not"):
        return True
    return any(t.text in _NEGATIONS or t.is_word("distinct") for t in kept)


def _plain(part: exp.Expr, sql: str) -> Predicate:
    if isinstance(part, exp.EQ):
        return _comparison(part, PredicateKind.EQUALITY, "=", sql)
    for kind, operator in _RANGES.items():
        if isinstance(part, kind):
            return _comparison(part, PredicateKind.RANGE, operator, sql)
    if isinstance(part, exp.NEQ | exp.NullSafeNEQ):
        return _comparison(part, PredicateKind.OTHER, "<>", sql)
    if isinstance(part, exp.In):
        return _one_sided(part.this, PredicateKind.MEMBERSHIP, "in", "", sql)
    if isinstance(part, exp.Between):
        return _one_sided(part.this, PredicateKind.RANGE, "between", "", sql)
    if isinstance(part, _PATTERNS):
        value = _sql(part.expression)
        return _one_sided(part.this, PredicateKind.PATTERN, "~~", value, sql)
    if isinstance(part, exp.StartsWith):
        return _one_sided(part.this, PredicateKind.PATTERN, "^@", _sql(part.expression), sql)
    inner = part.this.unnest() if isinstance(part, exp.Not) else part
    if isinstance(part, exp.Not) and isinstance(inner, exp.NullSafeNEQ):
        return _comparison(inner, PredicateKind.OTHER, NULL_SAFE, sql)
    if isinstance(inner, exp.Is):
        return _one_sided(inner.this, PredicateKind.NULL_TEST, "is", "null", sql)
    flag = isinstance(inner, exp.Cast) and inner.to.is_type(exp.DType.BOOLEAN)
    if flag or isinstance(inner, exp.Column):
        return _one_sided(inner, PredicateKind.TRUTH, "", "", sql)
    return _one_sided(part, PredicateKind.OTHER, "", "", sql)


def _comparison(part: exp.Expr, kind: PredicateKind, operator: str, sql: str) -> Predicate:
    left, right = part.this.unnest(), part.expression.unnest()
    if isinstance(right, exp.Any):
        return _one_sided(left, PredicateKind.MEMBERSHIP, "= any", right.sql(DIALECT), sql)
    if next(left.find_all(exp.Column), None) is None:
        left, right, operator = right, left, _TURNED.get(operator, operator)
    found = _one_sided(left, kind, operator, right.sql(dialect=DIALECT), sql)
    if found.column is None:
        return _of_several(left, operator, right, sql) or found
    partner = _single_column(right)
    if partner is None and next(right.find_all(exp.Column), None) is not None:
        return Predicate(PredicateKind.OTHER, sql)
    return Predicate(
        found.kind, sql, found.column, found.wrapping, found.expression, operator, found.value,
        partner, cast_to=found.cast_to,
    )  # fmt: skip


def _one_sided(
    side: exp.Expr, kind: PredicateKind, operator: str, value: str, sql: str
) -> Predicate:
    side = side.unnest()
    column = _single_column(side)
    if column is None:
        return Predicate(PredicateKind.OTHER, sql)
    return Predicate(
        kind=kind,
        sql=sql,
        column=column,
        wrapping=_wrapping(side),
        cast_to=side.to.sql(dialect=DIALECT) if isinstance(side, exp.Cast) else "",
        expression=side.sql(dialect=DIALECT),
        operator=operator,
        value=value,
    )


def _of_several(left: exp.Expr, operator: str, right: exp.Expr, sql: str) -> Predicate | None:
    """An expression of several columns of one table compared with what has none."""
    refs = tuple(dict.fromkeys(_ref(column) for column in left.find_all(exp.Column)))
    if _is_row(left) or next(right.find_all(exp.Column), None):
        return None
    if len(refs) < 2 or len({ref.alias for ref in refs}) != 1:
        return None
    return Predicate(
        PredicateKind.OTHER, sql, wrapping=_wrapping(left), expression=_sql(left),
        operator=operator, value=_sql(right), several=refs,
    )  # fmt: skip


def _is_row(part: exp.Expr) -> bool:
    """Whether several values are put together as they are: nothing is computed from them."""
    named = isinstance(part, exp.Anonymous) and str(part.this).lower() == "row"
    return named or isinstance(part, exp.Tuple | exp.Struct)


def _sql(part: exp.Expr) -> str:
    return part.sql(dialect=DIALECT)


def _single_column(side: exp.Expr) -> ColumnRef | None:
    found = {_ref(column) for column in side.find_all(exp.Column)}
    return found.pop() if len(found) == 1 else None


def _wrapping(side: exp.Expr) -> Wrapping:
    if isinstance(side, exp.Column):
        return Wrapping.NONE
    if isinstance(side, exp.Cast) and isinstance(side.this.unnest(), exp.Column):
        return Wrapping.CAST
    if isinstance(side, exp.Binary):
        return Wrapping.ARITHMETIC
    return Wrapping.FUNCTION


def _ref(column: exp.Column) -> ColumnRef:
    return ColumnRef(column.table, column.name)
