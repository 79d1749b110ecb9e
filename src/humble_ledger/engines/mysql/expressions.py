"""Expressions as keys of an index, which MySQL has from 8.0.13 on (MariaDB has none)."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from humble_ledger.core.schema.beginnings import beginning_of
from humble_ledger.core.schema.facts import ColumnFacts, IndexKey
from humble_ledger.core.statements.brackets import without_brackets
from humble_ledger.core.statements.tokens import TokenKind, meaningful
from humble_ledger.engines.mysql.naming import condition, quoted

FROM_MYSQL = 80013
# Documented functions whose result hangs on their arguments alone: on no setting of a session, as
# the first day of a week or the time zone, and on no moment.
_PLAIN = frozenset(
    """abs ceil ceiling floor round truncate mod sign coalesce ifnull nullif greatest least lower
    lcase upper ucase trim ltrim rtrim left right substr substring reverse concat concat_ws replace
    char_length character_length length octet_length ascii hex md5 sha1 sha2 crc32 date year month
    dayofmonth day dayofyear quarter hour minute second to_days last_day""".split()
)
_WITH_BEGINNINGS = ("char", "text", "binary", "blob")
_OPERATORS = frozenset("+ - * / % ( ) , .".split())


def can_be_key(expression: str, columns: Collection[str]) -> bool:
    """Whether an index may hold an expression of these columns, as far as can be told.

    It is in the core's notation.
    """
    known = {name.lower() for name in columns}
    tokens = meaningful(expression)
    for place, token in enumerate(tokens):
        called = place + 1 < len(tokens) and tokens[place + 1].text == "("
        if token.kind in (TokenKind.WORD, TokenKind.QUOTED):
            allowed = _PLAIN if called else known
            if token.text.strip('"').lower() not in allowed:
                return False
        elif token.kind in (TokenKind.OPERATOR, TokenKind.PUNCTUATION):
            if token.text not in _OPERATORS:
                return False
        elif token.kind not in (TokenKind.NUMBER, TokenKind.STRING):
            return False
    return bool(tokens)


def may_be_asked_of(key: IndexKey, columns: Mapping[str, ColumnFacts]) -> bool:
    """Whether a key of these columns may be computed on rows: nothing else is sent to a server.

    A design may come from a stranger's file, and its expression might call what acts. Only texts
    and bytes have beginnings: a key cannot hold those of JSON or of a shape.
    """
    if key.column:
        return key.column.lower() in {name.lower() for name in columns}
    first = beginning_of(key)
    if first is None:
        return can_be_key(key.expression, columns)
    column = columns.get(first.column)
    return column is not None and any(k in column.type_name.lower() for k in _WITH_BEGINNINGS)


def as_key(expression: str) -> str:
    """An expression as `CREATE INDEX` takes it: in brackets of its own."""
    return f"({condition(without_brackets(expression))})"


def computed(key: IndexKey) -> str:
    """What a key holds of a row, as a statement computes it."""
    if key.column:
        return quoted(key.column)
    first = beginning_of(key)
    if first is not None:
        return f"LEFT({quoted(first.column)}, {first.length})"
    return condition(key.expression)
