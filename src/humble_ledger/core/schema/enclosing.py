"""Which conditions a tree of enclosing shapes can find rows by: geometry, ranges, boxes.

Such an index keeps, above each value, a shape that encloses it and its neighbours. It serves the
operators of its operator class, and functions that the server turns into such an operator.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from humble_ledger.core.schema.facts import ColumnFacts, IndexFacts, IndexKey, TableFacts
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.brackets import without_brackets
from humble_ledger.core.statements.conditions import columns_of
from humble_ledger.core.statements.parting import same_text, unqualified
from humble_ledger.core.statements.tokens import Token, TokenKind, tokens, unquoted

_NAMES = (TokenKind.WORD, TokenKind.QUOTED)
# By these anything is compared: what is computed of a shape need not be one.
_OF_ANY_TYPE = frozenset(("=", "<", "<=", ">", ">=", "<>"))
_CLOSED = {"(": 1, "[": 1, ")": -1, "]": -1}


@dataclass(frozen=True, slots=True)
class Sought:
    """What an index would have to be on: a bare ``column``, or an ``expression`` of one ("").

    ``of`` is the column in either, ``by`` the function or operator that asks for it.
    """

    of: str
    column: str
    expression: str
    by: str = ""

    @property
    def key(self) -> IndexKey:
        """The key of that index."""
        return IndexKey(self.column) if self.column else IndexKey("", f"({self.expression})")


def sought(condition: str, table: TableFacts, alias: str) -> Iterator[Sought]:
    """What of a table a condition looks for by enclosing shapes, as a server prints it."""
    text = without_brackets(condition)
    called = _call(text)
    if called is not None:
        name, arguments = called
        for argument in arguments:
            found = _side(argument, table, alias)
            if found is not None and name in table.columns[found.of].enclosing_functions:
                yield replace(found, by=name)
        return
    for operator, sides in _compared(text):
        for side in sides:
            found = _side(side, table, alias)
            if found is not None and operator in table.columns[found.of].enclosing_operators:
                if found.column or operator not in _OF_ANY_TYPE:
                    yield replace(found, by=operator)
                return


def nearest(sort_key: str, table: TableFacts, alias: str) -> Sought | None:
    """The column whose nearest values come first in this order; None in any other order."""
    text = without_brackets(sort_key)
    for operator, sides in _compared(text):
        for side in sides:
            found = _side(side, table, alias)
            if found is not None and operator in table.columns[found.of].nearness_operators:
                return replace(found, by=operator)
    return None


def is_by_shape(column: ColumnFacts | None) -> bool:
    """Whether values of a column are shapes, whose order as such means nothing."""
    return column is not None and (bool(column.enclosing_functions) or not column.sortable)


def holding(table: TableFacts, wanted: Sought) -> IndexFacts | None:
    """The index that leads to what is sought, if there is one."""
    for index in table.indexes:
        if index.valid and index.method == IndexMethod.ENCLOSING and not index.predicate:
            key = index.keys[0]
            if key.column == wanted.column and (
                key.column or same_text(key.expression, wanted.expression)
            ):
                return index
    return None


def _side(text: str, table: TableFacts, alias: str) -> Sought | None:
    refs = columns_of(text)
    if not refs or any(ref.alias not in (alias, "") for ref in refs):
        return None
    known = [ref.column for ref in refs if ref.column in table.columns]
    if len(known) != len(refs):
        return None
    own = unqualified(without_brackets(text), alias)
    bare = unquoted(own) if unquoted(own) == known[0] else ""
    return Sought(known[0], bare, "" if bare else own)


def _call(text: str) -> tuple[str, list[str]] | None:
    """The function and its arguments when a condition is one call and nothing else."""
    kept = [t for t in tokens(text) if t.kind not in (TokenKind.SPACE, TokenKind.COMMENT)]
    place = 0
    while place + 2 < len(kept) and kept[place].kind in _NAMES and kept[place + 1].text == ".":
        place += 2
    if place + 1 >= len(kept) or kept[place].kind not in _NAMES or kept[place + 1].text != "(":
        return None
    name, depth, start, arguments = unquoted(kept[place].text), 0, kept[place + 1].end, []
    for token in kept[place + 1 :]:
        depth += _CLOSED.get(token.text, 0)
        if (depth == 1 and token.text == ",") or depth == 0:
            arguments.append(text[start : token.start].strip())
            start = token.end
        if depth == 0:
            return (name, arguments) if token is kept[-1] else None
    return None


def _compared(text: str) -> Iterator[tuple[str, tuple[str, str]]]:
    """Each operator outside of brackets, with what stands before and behind it."""
    depth = 0
    kept: list[Token] = list(tokens(text))
    for token in kept:
        depth += _CLOSED.get(token.text, 0)
        if depth == 0 and token.kind is TokenKind.OPERATOR and token.text not in ("::", "."):
            yield token.text, (text[: token.start].strip(), text[token.end :].strip())
