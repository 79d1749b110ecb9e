"""A statement by this family's lexical rules, and the same by the standard's.

Strings stand between ' or ", with \\ before what would end them; names between `; # begins a
comment, and what stands in /*! … */ is no comment at all: it is run.
"""

from __future__ import annotations

import re

from humble_ledger.core.schema.quoting import Quoting, identifier
from humble_ledger.engines.mysql.plans.notation import string
from humble_ledger.engines.mysql.reserved import RESERVED
from humble_ledger.errors import RefusedForSafety

_TOKEN = re.compile(
    r"""(?P<single>'(?:[^'\\]|\\.|'')*(?:'|\Z))
    | (?P<double>"(?:[^"\\]|\\.|"")*(?:"|\Z))
    | (?P<name>`(?:[^`]|``)*(?:`|\Z))
    | (?P<run>/\*(?:!|M!))
    | (?P<hint>/\*\+.*?(?:\*/|\Z))
    | (?P<block>/\*.*?(?:\*/|\Z))
    | (?P<line>(?:\#|--(?=[\s]|\Z))[^\n]*)
    | (?P<dashes>--)
    """,
    re.VERBOSE | re.DOTALL,
)
_WITHOUT_ESCAPES = re.compile(
    r"""(?P<single>'(?:[^']|'')*(?:'|\Z))
    | (?P<double>"(?:[^"]|"")*(?:"|\Z))
    | (?P<name>`(?:[^`]|``)*(?:`|\Z))
    | (?P<run>/\*(?:!|M!))
    | (?P<hint>/\*\+.*?(?:\*/|\Z))
    | (?P<block>/\*.*?(?:\*/|\Z))
    | (?P<line>(?:\#|--(?=[\s]|\Z))[^\n]*)
    | (?P<dashes>--)
    """,
    re.VERBOSE | re.DOTALL,
)
NO_ESCAPES, NAMES_IN_QUOTES = "NO_BACKSLASH_ESCAPES", "ANSI_QUOTES"


def standard(sql: str, modes: str = "") -> str:
    """The same statement with strings, names and comments as the standard has them.

    ``modes`` are the session's; what is in a comment that the server runs stands outside of it.
    """
    pattern = _WITHOUT_ESCAPES if NO_ESCAPES in modes else _TOKEN

    def change(found: re.Match[str]) -> str:
        kind, text = found.lastgroup, found[0]
        if kind == "single" or (kind == "double" and NAMES_IN_QUOTES not in modes):
            if NO_ESCAPES in modes:
                inner = text[1:-1].replace(text[0] * 2, text[0])
                return "'" + inner.replace("'", "''") + "'"
            return string(text)
        if kind == "name":
            return '"' + text[1:-1].replace("``", "`").replace('"', '""') + '"'
        if kind == "line":
            return "-- " + text.lstrip("#-").strip()
        if kind == "run":
            return " "  # the rest is looked at, its end is an operator that nothing knows
        if kind == "dashes":
            return "- -"
        return text

    return pattern.sub(change, sql)


def readable(sql: str) -> str:
    """The same to the servers, and by the standard's lexical rules, too.

    Strings stand between single quotes, with the quotes in them doubled; names lose quotes that
    they do not need; comments begin with --.
    """
    if not _NOT_STANDARD.search(sql):
        return sql

    def change(found: re.Match[str]) -> str:
        kind, text = found.lastgroup, found[0]
        if kind in ("single", "double") and len(text) > 1 and text[-1] == text[0]:
            inner = text[1:-1]
            if kind == "double":
                inner = inner.replace('""', '"').replace('\\"', '"')
                inner = _BARE_QUOTE.sub("''", inner)
            return "'" + _ESCAPED_QUOTE.sub(r"\1''", inner) + "'"
        if kind == "name" and len(text) > 1:
            return identifier(text[1:-1].replace("``", "`"), _BACKTICKS)
        if kind == "line" and text.startswith("#"):
            return "-- " + text.lstrip("#").strip()
        return text

    return _TOKEN.sub(change, sql)


_NOT_STANDARD = re.compile(r"""[\\"`#]""")
_BARE_QUOTE = re.compile(r"(?<!\\)'")
# A quote behind an uneven number of backslashes: the last of them goes.
_ESCAPED_QUOTE = re.compile(r"(?<!\\)((?:\\\\)*)\\'")
_BACKTICKS = Quoting("`", RESERVED)


def runs_a_comment(sql: str, modes: str = "") -> bool:
    """Whether a comment of the statement is run by the server."""
    pattern = _WITHOUT_ESCAPES if NO_ESCAPES in modes else _TOKEN
    return any(found.lastgroup == "run" for found in pattern.finditer(sql))


_OUT = re.compile(r"\binto\s+(?:outfile|dumpfile)\b", re.IGNORECASE)
_STRINGS = re.compile(r"'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|--[^\n]*|/\*.*?\*/", re.DOTALL)


def require_plain(sql: str, modes: str = "") -> str:
    """The statement by the standard's rules, when nothing in it acts beside the tables.

    Raises:
        RefusedForSafety: a comment in it would be run, or it writes a file of the server.
    """
    if runs_a_comment(sql, modes):
        raise RefusedForSafety(
            "The statement has a comment of the kind /*! … */, which the server runs.",
            "Write what is in it as part of the statement, or leave it out.",
        )
    plain = standard(sql, modes)
    if _OUT.search(_STRINGS.sub(" ", plain)):
        raise RefusedForSafety(
            "The statement writes a file on the server (INTO OUTFILE): it is not run.",
            "Leave that out: what is slow is the reading.",
        )
    return plain
