"""SQL text to tokens, by the standard's and PostgreSQL's lexical rules; never fails.

One regular expression does the work, because a fingerprint must be had from every line of a
large log, from statements of any dialect and from broken ones; a syntax tree comes later,
for the few statements that are looked at closely.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from enum import StrEnum


class TokenKind(StrEnum):
    """What a token is."""

    WORD = "word"  # keyword or plain identifier
    QUOTED = "quoted"  # "Identifier", `identifier`
    STRING = "string"  # any string constant
    NUMBER = "number"
    PARAMETER = "parameter"  # $1, %s, %(name)s, :name, ?
    OPERATOR = "operator"
    PUNCTUATION = "punctuation"  # ( ) [ ] , ; . :: :
    COMMENT = "comment"
    SPACE = "space"
    OTHER = "other"  # a byte that belongs nowhere
    UNCLOSED = "unclosed"  # a string or quoted name that does not end, and all behind it


@dataclass(frozen=True, slots=True)
class Token:
    """One token: its kind, its text as written, and where it starts (characters)."""

    kind: TokenKind
    text: str
    start: int

    @property
    def end(self) -> int:
        """The place behind its last character."""
        return self.start + len(self.text)

    def is_word(self, *words: str) -> bool:
        """Whether this is one of these keywords, given in lower case."""
        return self.kind is TokenKind.WORD and self.text.lower() in words


# A string goes on behind a line's end, with comments between; a continued E'…' keeps its escapes.
# Nothing in it is given back: a row of dashes could be parted into comments in countless ways.
_GOES_ON = r"(?:[ \t\f\v]|--[^\n\r]*+)*+[\n\r](?:[ \t\n\r\f\v]|--[^\n\r]*+[\n\r])*+"
_ESCAPED = r"'(?:[^'\\]|\\.|'')*'"
_STANDARD = r"'(?:[^']|'')*'"
# A sign at the end of an operator belongs to what follows, so that a>=-5 works; unless it has one
# of the characters that no standard operator has.
_NO_OPERATOR = r"(?!--|/\*|%s\b|%\(\w+\)s)"
_OPERATOR = (
    rf"(?=(?:{_NO_OPERATOR}[-+*/<>=])*{_NO_OPERATOR}[~!@\#%^&|`?])(?:{_NO_OPERATOR}[-+*/<>=~!@\#%^&|`?])+"
    rf"|(?:{_NO_OPERATOR}[-+*/<>=])*{_NO_OPERATOR}[*/<>=]|{_NO_OPERATOR}[-+]"
)
# Order matters: the first alternative that matches wins. A line ends at \r as well, and whatever
# is no ASCII belongs to a word, also what Unicode calls a space.
_PATTERN = re.compile(
    rf"""
      (?P<space>[ \t\n\r\f\v]+)
    | (?P<comment>--[^\n\r]*|/\*)                     # a block comment's end is sought by hand
    | (?P<dollar>\$(?P<tag>[A-Za-z_\x80-\U0010ffff][A-Za-z0-9_\x80-\U0010ffff]*)?\$)
    | (?P<string>[eE]{_ESCAPED}(?:{_GOES_ON}{_ESCAPED})*
                |(?:[uU]&|[bBxXnN])?{_STANDARD}(?:{_GOES_ON}{_STANDARD})*)
    | (?P<quoted>(?:[uU]&)?"(?:[^"]|"")*"|`(?:[^`]|``)*`)
    | (?P<unclosed>(?:[uU]&)?['"]|[eEbBxXnN]')
    | (?P<parameter>\$[0-9]+|%\(\w+\)s|%s|(?<![:\w]):[A-Za-z_]\w*)
    | (?P<number>(?:0[xX][0-9a-fA-F_]+|0[oO][0-7_]+|0[bB][01_]+
                |(?:[0-9][0-9_]*(?:\.(?!\.)[0-9_]*)?|\.[0-9][0-9_]*)(?:[eE][+-]?[0-9]+)?))
    | (?P<word>[A-Za-z_\x80-\U0010ffff][A-Za-z0-9_$\x80-\U0010ffff]*)
    | (?P<punctuation>::|[()\[\],;.:{{}}])
    | (?P<operator>{_OPERATOR})
    | (?P<other>.)
    """,
    re.VERBOSE | re.DOTALL,
)
_BLOCK_EDGE = re.compile(r"/\*|\*/")


def tokens(sql: str, place: int = 0) -> Iterator[Token]:
    """Every token from a place on, in order; their texts joined give the text again."""
    length = len(sql)
    while place < length:
        match = _PATTERN.match(sql, place)
        assert match is not None  # the last alternative takes any character
        kind, end = _kind_and_end(sql, match)
        yield Token(kind, sql[place:end], place)
        place = end


def meaningful(sql: str) -> list[Token]:
    """The tokens without white space and comments."""
    skipped = (TokenKind.SPACE, TokenKind.COMMENT)
    return [token for token in tokens(sql) if token.kind not in skipped]


# What must be sought by hand: block comments nest, a dollar quote ends where it says.
_BY_HAND = re.compile(r"/\*|\$(?![0-9])")


def kinds_and_texts(sql: str) -> tuple[list[str], list[str]]:
    """The kinds and the texts of `meaningful`, a kind by its value; three times as quick.

    Every different statement of a log is taken apart once, and there may be a hundred thousand.
    """
    if _BY_HAND.search(sql) is not None:
        kept = meaningful(sql)
        return [token.kind.value for token in kept], [token.text for token in kept]
    kinds: list[str] = []
    texts: list[str] = []
    for match in _PATTERN.finditer(sql):
        kind = match.lastgroup or "other"
        if kind in ("space", "comment"):
            continue
        kinds.append(kind)
        if kind == "unclosed":
            texts.append(sql[match.start() :])
            break
        texts.append(match[0])
    return kinds, texts


def has_placeholders(sql: str) -> bool:
    """Whether the text has $1 and the like outside strings and comments."""
    return any(t.kind is TokenKind.PARAMETER and t.text[0] == "$" for t in tokens(sql))


def line_and_column(text: str, place: int) -> tuple[int, int]:
    """The line and column of a character's place, both counted from 1."""
    before = text[:place]
    return before.count("\n") + 1, place - (before.rfind("\n") + 1) + 1


def split_statements(sql: str) -> list[str]:
    """The statements of a text, parted at the semicolons outside strings and comments."""
    found, start = [], 0
    for end in statement_ends(tokens(sql)):
        found.append(sql[start : end.start])
        start = end.end
    found.append(sql[start:])
    return [part.strip() for part in found if meaningful(part)]


def statement_ends(found: Iterable[Token]) -> Iterator[Token]:
    """The semicolons that part statements.

    Those in the brackets of a rule and in the body of a function do not.
    """
    words: list[str] = []  # the first words of the statement
    brackets = bodies = 0
    for token in found:
        if token.kind in (TokenKind.SPACE, TokenKind.COMMENT):
            continue
        if token.kind is TokenKind.WORD:
            word = token.text.lower()
            if len(words) < _FIRST_WORDS:
                words.append(word)
            routine = words[0] == "create" and not {"function", "procedure"}.isdisjoint(words)
            if (routine and word == "begin") or (bodies and word == "case"):
                bodies += 1
            elif bodies and word == "end":
                bodies -= 1
        elif token.text in ("(", ")") and words[:1] == ["create"] and "rule" in words:
            brackets = max(0, brackets + (1 if token.text == "(" else -1))
        elif token.text == ";" and not brackets and not bodies:
            yield token
            words, brackets, bodies = [], 0, 0


_FIRST_WORDS = 4  # CREATE OR REPLACE FUNCTION


def _kind_and_end(sql: str, match: re.Match[str]) -> tuple[TokenKind, int]:
    name = match.lastgroup
    if name == "tag" or match["dollar"] is not None:
        closing = sql.find(match["dollar"], match.end())
        if closing < 0:
            return TokenKind.UNCLOSED, len(sql)
        return TokenKind.STRING, closing + len(match["dollar"])
    if name == "unclosed":
        return TokenKind.UNCLOSED, len(sql)
    if name == "comment" and match[0] == "/*":
        return TokenKind.COMMENT, _block_comment_end(sql, match.start())
    return _KINDS[name or "other"], match.end()


def unquoted(name: str) -> str:
    """A name as the catalogue has it: without the quotes around it; plain ones as they stand."""
    quoted = len(name) > 1 and name[0] == name[-1] and name[0] in '"`'
    return name[1:-1].replace(name[0] * 2, name[0]) if quoted else name


_KINDS = {kind.value: kind for kind in TokenKind}


def _block_comment_end(sql: str, start: int) -> int:
    depth, place = 0, start
    while (edge := _BLOCK_EDGE.search(sql, place)) is not None:
        depth += 1 if edge[0] == "/*" else -1
        place = edge.end()
        if depth == 0:
            return place
    return len(sql)
