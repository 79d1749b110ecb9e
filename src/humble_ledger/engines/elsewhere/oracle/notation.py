"""Oracle's conditions in the notation of the core."""

from __future__ import annotations

import re

from humble_ledger.engines.elsewhere.names import identifier, quiet, spaced

_TOKEN = re.compile(
    r"""(?P<string>n?'(?:[^']|'')*')
    | (?P<quoted>"(?P<inner>[^"]+)")
    | (?P<bind>:"?(?P<bound>\w+)"?)
    | (?P<moment>\b(?:sysdate|systimestamp|current_date)@!)
    | (?P<internal>\bINTERNAL_FUNCTION(?=\())
    | (?P<hint>/\*\+?.*?\*/)
    """,
    re.VERBOSE | re.IGNORECASE,
)
_TO_DATE = re.compile(
    r"TO_(?:DATE|TIMESTAMP)\('\s*([^']*?)(?:\s00:00:00(?:\.0+)?)?',\s*'[^']*'\)", re.IGNORECASE
)
_CONVERTED = {"to_number": "numeric", "to_char": "text", "to_date": "date",
              "to_timestamp": "timestamp", "rawtohex": "text", "sys_op_c2c": "text"}  # fmt: skip
_CALL = re.compile(
    r"\b(to_number|to_char|to_date|to_timestamp|rawtohex|sys_op_c2c)"
    r"\(((?:[\w$]+\.)?(?:[\w$]+|\"[^\"]+\"))\)", re.IGNORECASE,
)  # fmt: skip
# The part of a table that one process is given to read.
_GRANULE = re.compile(r":Z>=:Z AND :Z<=:Z")


def noted(text: str) -> str:
    """A condition in brackets; "" for none.

    A conversion around a bare column is a cast; a constant date is the date alone.
    """
    bare = text.strip()
    if not bare or _GRANULE.fullmatch(bare):
        return ""
    dated = _TO_DATE.sub(lambda m: f"'{m[1]}'", bare)
    plain = _TOKEN.sub(_changed, dated)
    plain = _CALL.sub(lambda m: f"CAST({m[2]} AS {_CONVERTED[m[1].lower()]})", plain)
    return f"({spaced(plain)})"


def _changed(found: re.Match[str]) -> str:
    if found["string"] is not None:
        return found[0].lstrip("nN")
    if found["quoted"] is not None:
        return identifier(quiet(found["inner"]))
    if found["bind"] is not None:
        digits = re.sub(r"\D", "", found["bound"])
        return f"${int(digits)}" if digits else f"${abs(hash_of(found['bound']))}"
    if found["moment"] is not None:
        return "now()"
    return ""  # a function that only says how it is computed, or a hint


def hash_of(name: str) -> int:
    """A number for a named value, the same each time."""
    return 1 + sum(ord(letter) for letter in name.lower()) % 900
