"""A script of SQL parted into statements, with the place of each; client commands skipped."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from humble_ledger.core.statements.tokens import Token, TokenKind, line_and_column, tokens

_COPY_IN = re.compile(r"\bcopy\b.*\bfrom\s+stdin\b", re.IGNORECASE | re.DOTALL)
_DATA_END = re.compile(r"^\\\.\s*$", re.MULTILINE)
_VARIABLE = re.compile(r"(?<![:\w]):(?:'\w+'|\"\w+\"|\w+)")
SKIPPED = "line of the client (\\)"
DATA = "data of COPY FROM STDIN"


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
    """Part a script at the semicolons outside strings, comments and dollar quotes.

    Lines that begin with a backslash are the client's own; they are skipped and counted, and
    so are rows of data behind COPY … FROM STDIN.
    """
    script = Script()
    place: int | None = 0
    while place is not None:
        place = _read_from(text, place, script)
    return script


def _read_from(text: str, place: int, script: Script) -> int | None:
    """Read statements from a place on; where to go on behind the data of a COPY, if any."""
    for start, end in _spans(text, place, script):
        sql = text[start:end].rstrip()
        line, column = line_and_column(text, start)
        script.statements.append(ScriptStatement(sql, line, column))
        if _COPY_IN.search(sql):
            stop = _DATA_END.search(text, end)
            _count(script, DATA)
            return stop.end() if stop else None
    return None


def _spans(text: str, place: int, script: Script) -> Iterator[tuple[int, int]]:
    """Where each statement begins and ends, comments before it left out."""
    start: int | None = None
    skipping_line = False
    for token in tokens(text, place):
        if skipping_line:
            skipping_line = "\n" not in token.text
            continue
        if token.kind in (TokenKind.SPACE, TokenKind.COMMENT):
            continue
        if token.text.startswith("\\") and _begins_line(text, token):
            _count(script, SKIPPED)
            skipping_line = True
            continue
        if token.kind is TokenKind.PUNCTUATION and token.text == ";":
            if start is not None:
                yield start, token.start
            start = None
        elif start is None:
            start = token.start
    if start is not None:
        yield start, len(text)


def _begins_line(text: str, token: Token) -> bool:
    return not text[text.rfind("\n", 0, token.start) + 1 : token.start].strip()


def _count(script: Script, reason: str) -> None:
    script.passed_over[reason] = script.passed_over.get(reason, 0) + 1
