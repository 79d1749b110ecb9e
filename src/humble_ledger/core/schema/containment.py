"""Which comparisons look inside a value, and by which operator class an index serves them."""

from __future__ import annotations

import re

from humble_ledger.core.schema.facts import ColumnFacts, IndexKey, TableFacts
from humble_ledger.core.schema.operator_classes import PATHS_OF_DOCUMENTS
from humble_ledger.core.statements.brackets import without_brackets
from humble_ledger.core.statements.conditions import Predicate, columns_of
from humble_ledger.core.statements.parting import halves, unqualified
from humble_ledger.core.statements.tokens import tokens, unquoted

# A part of a document: a column, and the keys that lead into it one after the other.
_PART = re.compile(
    r"""(?P<column>(?:\w+|"(?:[^"]|"")+")(?:\.(?:\w+|"(?:[^"]|"")+"))?)
    (?:\s*(?:->|\#>)\s*(?:'(?:[^']|'')*'(?:::[a-z\[\] ]+)?|\d+))+""",
    re.VERBOSE | re.IGNORECASE,
)
# The words of a text by the rules of a language that is named: by another one's, it would change
# with a setting.
_WORDS = re.compile(r"to_tsvector\(\s*'[^']*'(?:::\w+)?\s*,", re.IGNORECASE)


def inverted_key(predicate: Predicate, table: TableFacts, alias: str) -> IndexKey | None:
    """The key of an inverted index that finds rows by a condition on what a value holds.

    A column, or a part of a document, or the words of a text. None when no such index can.
    """
    column = table.columns.get(predicate.column.column) if predicate.column is not None else None
    class_ = inverted_class(predicate, column) if column is not None else None
    if class_ is not None and column is not None:
        return IndexKey(column.name, operator_class=class_)
    parted = halves(predicate.sql)
    if parted is None or predicate.negated:
        return None
    left, operator = without_brackets(parted[0]), parted[1]
    refs = columns_of(left)
    if not refs or any(r.alias not in (alias, "") or r.column not in table.columns for r in refs):
        return None
    own = unqualified(left, alias)
    if operator == "@@" and _WORDS.match(left):
        return IndexKey("", own if _is_one_call(own) else f"({own})")
    if column is None or column.type_name != "jsonb" or _PART.fullmatch(left) is None:
        return None
    part_class = _of_documents(operator)
    return None if part_class is None else IndexKey("", f"({own})", operator_class=part_class)


def inverted_class(predicate: Predicate, column: ColumnFacts) -> str | None:
    """The operator class of an inverted index that finds rows by a condition on the bare column.

    "" is the type's own; None when no such index can.
    """
    parted = halves(predicate.sql)
    if parted is None or unquoted(parted[0].rsplit(".", 1)[-1]) != column.name:
        return None
    operator, type_ = parted[1], column.type_name
    if type_ == "jsonb":
        return _of_documents(operator)
    if type_.rpartition(".")[2] == "hstore" and operator in ("@>", "?", "?|", "?&"):
        return ""
    if (type_.endswith("[]") and operator in ("@>", "&&", "<@")) or (
        type_ == "tsvector" and operator == "@@"
    ):
        return ""
    return None


def _is_one_call(text: str) -> bool:
    """Whether the bracket that a text opens first is closed at its very end."""
    depth = 0
    for token in tokens(text):
        depth += {"(": 1, ")": -1}.get(token.text, 0)
        if depth == 0 and token.text == ")":
            return token.end == len(text)
    return False


def _of_documents(operator: str) -> str | None:
    if operator in ("@>", "@@", "@?"):
        return PATHS_OF_DOCUMENTS
    return "" if operator in ("?", "?|", "?&") else None
