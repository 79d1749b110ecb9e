"""A script of SQL parted into statements, with the place of each; client commands skipped.

What clients do with a script is no server's business, and the same text may have been written for
any of them: lines that begin with a backslash, statements that end with \\g or \\G, and DELIMITER.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from humble_ledger.core.statements.tokens import (
    Token,
    TokenKind,
    line_and_column,
    statement_ends,
    tokens,
)

_COPY_IN = re.compile(r"\bcopy\b.*\bfrom\s+stdin\b", re.IGNORECASE | re.DOTALL)
_DATA_END = re.compile(r"^\\\.\s*$", re.MULTILINE)
# MySQL's clients: from this line on something else than ; ends a statement.
_DELIMITER = re.compile(r"^[ \t]*delimiter[ \t]+(\S+)[^\n]*\n?", re.IGNORECASE | re.MULTILINE)
_SENDS = frozenset(("g", "gx", "G"))
_VARIABLE = re.compile(r"(?<![:\w]):(?:'\w+'|\"\w+\"|\w+)")
SKIPPED = "line of the client (\\)"
DATA = "data of COPY FROM STDIN"
SETS_DELIMITER = "line of the client (DELIMITER)"


@dataclass(frozen=True, slots=True)
class ScriptStatement:
    """One statement of a script; ``line`` and ``column`` (from 1) are where it begins."""

    sql: str
    line: int
    column: int

    def place_of(self, position: int) -> tuple[int, int]:
        """Line and column in the script of a character (from 0) of the statement."""
        line, column = line_and_column(self.sql, position)
        return self.line + line - 1, column if line > 1 else self.column + column - 1

    @property
    def variables(self) -> tuple[str, ...]:
        """Variables of the client (:name) that it would have replaced."""
        code = "".join(
            "''" if each.kind in (TokenKind.STRING, TokenKind.COMMENT) else each.text
            for each in tokens(self.sql)
            if each.kind is not TokenKind.PARAMETER or each.text[0] == ":"
        )
        return tuple(dict.fromkeys(_VARIABLE.findall(code)))


@dataclass(slots=True)
class Script:
    """The statements of a script, and what was passed over, by reason."""

    statements: list[ScriptStatement] = field(default_factory=list)
    passed_over: dict[str, int] = field(default_factory=dict)


def read_script(text: str) -> Script:
    """Part a script at the semicolons outside strings, comments, dollar quotes and bodies.

    Lines that begin with a backslash are the client's own; they are skipped and counted, and
    so are rows of data behind COPY … FROM STDIN, and lines that set another DELIMITER.
    """
    script = Script()
    for begun, ended, delimiter in _parts(text, script):
        lines = _Lines(text[:ended])
        if delimiter == ";":
            place: int | None = begun
            while place is not None:
                place = _read_from(lines, place, script)
            continue
        at = begun
        for part in lines.text[begun:].split(delimiter):  # chosen so that no statement has it
            if part.strip():
                start = at + len(part) - len(part.lstrip())
                script.statements.append(ScriptStatement(part.strip(), *lines.at(start)))
            at += len(part) + len(delimiter)
    return script


def _parts(text: str, script: Script) -> Iterator[tuple[int, int, str]]:
    """From where to where each delimiter goes."""
    begun, delimiter = 0, ";"
    for found in _DELIMITER.finditer(text):
        yield begun, found.start(), delimiter
        _count(script, SETS_DELIMITER)
        begun, delimiter = found.end(), found[1]
    yield begun, len(text), delimiter


@dataclass(slots=True)
class _Lines:
    """Lines and columns of places that are asked for in order."""

    text: str
    _place: int = 0
    _line: int = 1

    def at(self, place: int) -> tuple[int, int]:
        self._line += self.text.count("\n", self._place, place)
        self._place = place
        return self._line, place - self.text.rfind("\n", 0, place)


def _read_from(lines: _Lines, place: int, script: Script) -> int | None:
    """Read statements from a place on; where to go on behind a client's line or a COPY's data."""
    text = lines.text
    start: int | None = None
    seen: list[Token] = []

    def solid() -> Iterator[Token]:
        nonlocal start
        sends = False
        for token in tokens(text, place):
            if sends:  # the g of \\g
                sends = False
                if token.text in _SENDS:
                    continue
            if token.kind in (TokenKind.SPACE, TokenKind.COMMENT):
                continue
            if token.text == "\\" and start is not None and _sends(text, token):
                sends = True
                yield Token(TokenKind.PUNCTUATION, ";", token.start)
                continue
            seen[:] = [token]
            if token.text.startswith("\\") and _begins_line(text, token):
                return
            if token.text != ";" and start is None:
                start = token.start
            yield token

    for end in statement_ends(solid()):
        begun, start = start, None
        if begun is None:
            continue
        sql = text[begun : end.start].rstrip()
        script.statements.append(ScriptStatement(sql, *lines.at(begun)))
        if _COPY_IN.search(sql):
            stop = _DATA_END.search(text, end.end)
            _count(script, DATA)
            return stop.end() if stop else None
    client = seen[-1] if seen and seen[-1].text.startswith("\\") else None
    if start is not None:
        stop_at = len(text) if client is None else client.start
        sql = text[start:stop_at].rstrip()
        script.statements.append(ScriptStatement(sql, *lines.at(start)))
    if client is None:
        return None
    _count(script, SKIPPED)
    line_end = text.find("\n", client.start)
    return None if line_end < 0 else line_end + 1


def _sends(text: str, token: Token) -> bool:
    """Whether a backslash behind a statement says that it is to be sent."""
    rest = text[token.end :].split("\n", 1)[0]
    return any(rest.split(";", 1)[0].rstrip() == word for word in _SENDS)


def _begins_line(text: str, token: Token) -> bool:
    return not text[text.rfind("\n", 0, token.start) + 1 : token.start].strip()


def _count(script: Script, reason: str) -> None:
    script.passed_over[reason] = script.passed_over.get(reason, 0) + 1
