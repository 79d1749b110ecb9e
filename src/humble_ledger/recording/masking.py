"""Statements without the values in them, by what strings and numbers look like."""

from __future__ import annotations

import re
from functools import lru_cache

# They may hold values, and quotes that end nowhere.
_COMMENTS = r"/\*.*?(?:\*/|\Z)|--[^\n]*"
_STRINGS = r"[eE]'(?:[^'\\]|\\.|'')*'|'(?:[^']|'')*'|(?<!\w)\$(?P<tag>\w*)\$.*?(?:\$(?P=tag)\$|\Z)"
_NAMES = r'"(?:[^"]|"")*"'
_PLACEHOLDERS = r"\$\d+|%s|%\(\w+\)s|(?<![\w:]):\w+"
_NUMBERS = r"(?<![\w.])(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?"
_STANDARD = re.compile(
    f"(?P<comment>{_COMMENTS})|(?P<kept>{_NAMES}|{_PLACEHOLDERS})"
    f"|(?P<text>{_STRINGS}|'.*)|{_NUMBERS}",
    re.DOTALL,
)
# Of servers that take text in double quotes, and backslashes in any text, for a string.
_OTHER = re.compile(
    rf"(?P<comment>{_COMMENTS}|\#[^\n]*)|(?P<kept>`[^`]*`|{_PLACEHOLDERS})"
    rf"""|(?P<text>'(?:[^'\\]|\\.|'')*'|"(?:[^"\\]|\\.|"")*"|['"].*)|{_NUMBERS}""",
    re.DOTALL,
)


@lru_cache(maxsize=256)
def without_values(sql: str, *, double_quotes: bool = False) -> str:
    """The statement with '?' for each string, 0 for each number, and without comments."""
    pattern = _OTHER if double_quotes else _STANDARD
    return pattern.sub(_shown, sql)


def _shown(found: re.Match[str]) -> str:
    if found["kept"]:
        return found[0]
    return "'?'" if found["text"] else " " if found["comment"] else "0"
