"""An index as a user writes it: "reading (sensor_id, taken_at desc) where quality = 1"."""

from __future__ import annotations

from dataclasses import replace

from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import IndexKey, TableFacts, TableName
from humble_ledger.core.statements.kinds import shorten
from humble_ledger.core.statements.tokens import Token, TokenKind, meaningful, unquoted
from humble_ledger.errors import UnreadableInput

_HINT = 'Write it like  --index "reading (sensor_id, taken_at)"  with INCLUDE or WHERE behind.'


def parse_index(text: str, default_schema: str) -> IndexDesign:
    """Read an index from its table, keys, and optional USING, INCLUDE and WHERE.

    A table without a schema is in the default one.

    Raises:
        UnreadableInput: the text is not of that form; the message says what was expected.
    """
    return _Reader(text, default_schema).design()


def spelled(design: IndexDesign, table: TableFacts) -> IndexDesign:
    """A design with its names as the catalogue has them, where they differ by letters' case alone.

    Where names mean the same whatever their case, that is how people write them.
    """
    by_small = {name.lower(): name for name in table.columns}

    def own(name: str) -> str:
        return name if name in table.columns else by_small.get(name.lower(), name)

    return replace(
        design,
        table=table.name,
        keys=tuple(replace(k, column=own(k.column)) if k.column else k for k in design.keys),
        included=tuple(own(name) for name in design.included),
        parts=table.parts,
    )


class _Reader:
    def __init__(self, text: str, default_schema: str) -> None:
        self._text = text
        self._default_schema = default_schema
        self._tokens = meaningful(text)
        self._place = 0

    def design(self) -> IndexDesign:
        table = self._table()
        method = self._next_name("an index method") if self._take("using") else "btree"
        keys = tuple(self._key(part) for part in self._bracketed("the keys in brackets"))
        included: tuple[str, ...] = ()
        if self._take("include"):
            columns = self._bracketed("the included columns in brackets")
            included = tuple(_name_of(part[0]) for part in columns)
        predicate = ""
        if self._take("where"):
            predicate = self._text[self._peek_start() :].strip().rstrip(";")
            self._place = len(self._tokens)
        if self._place < len(self._tokens):
            raise self._error(f'nothing more than "{self._tokens[self._place].text}"')
        return IndexDesign(table, keys, included, predicate, method.lower())

    def _table(self) -> TableName:
        first = self._next_name("a table")
        if self._peek() == ".":
            self._place += 1
            return TableName(first, self._next_name("a table behind the schema"))
        return TableName(self._default_schema, first)

    def _key(self, part: list[Token]) -> IndexKey:
        descending, nulls_first = False, None
        while len(part) > 1 and part[-1].kind is TokenKind.WORD:
            if part[-2].is_word("nulls") and part[-1].is_word("first", "last"):
                nulls_first, part = part[-1].is_word("first"), part[:-2]
            elif part[-1].is_word("asc", "desc"):
                descending, part = part[-1].is_word("desc"), part[:-1]
            else:
                break
        nulls = descending if nulls_first is None else nulls_first
        if len(part) == 1 and part[0].kind in (TokenKind.WORD, TokenKind.QUOTED):
            return IndexKey(_name_of(part[0]), "", descending, nulls)
        return IndexKey("", self._text[part[0].start : part[-1].end], descending, nulls)

    def _bracketed(self, expected: str) -> list[list[Token]]:
        """The comma-parted pieces of the bracket that opens here."""
        if self._peek() != "(":
            raise self._error(expected)
        depth = 0
        parts: list[list[Token]] = [[]]
        while self._place < len(self._tokens):
            token = self._tokens[self._place]
            self._place += 1
            depth += (token.text == "(") - (token.text == ")")
            if depth == 0:
                if not all(parts):
                    raise self._error(expected)
                return parts
            if depth == 1 and token.text == ",":
                parts.append([])
            elif not (depth == 1 and token.text == "(" and parts == [[]]):
                parts[-1].append(token)
        raise self._error("a closing bracket")

    def _next_name(self, expected: str) -> str:
        if self._place >= len(self._tokens):
            raise self._error(expected)
        token = self._tokens[self._place]
        if token.kind not in (TokenKind.WORD, TokenKind.QUOTED):
            raise self._error(expected)
        self._place += 1
        return _name_of(token)

    def _take(self, word: str) -> bool:
        if self._place < len(self._tokens) and self._tokens[self._place].is_word(word):
            self._place += 1
            return True
        return False

    def _peek(self) -> str:
        return self._tokens[self._place].text if self._place < len(self._tokens) else ""

    def _peek_start(self) -> int:
        if self._place >= len(self._tokens):
            raise self._error("a condition behind WHERE")
        return self._tokens[self._place].start

    def _error(self, expected: str) -> UnreadableInput:
        return UnreadableInput(
            f'The index "{shorten(self._text, 120)}" cannot be read: expected {expected}.', _HINT
        )


def _name_of(token: Token) -> str:
    if token.kind is TokenKind.QUOTED:
        return unquoted(token.text)
    return token.text.lower()
