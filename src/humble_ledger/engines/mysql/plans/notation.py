"""Conditions as these servers print them, in the notation that the core reads."""

from __future__ import annotations

import re
from functools import lru_cache

from humble_ledger.engines.mysql.plans.bounds import bounds_apart

_PLAIN = re.compile(r"[a-z_][a-z0-9_]*")
# Strings first, so that nothing in them is taken for something else.
_TOKEN = re.compile(
    r"""(?P<string>'(?:[^'\\]|\\.|'')*')
    | (?P<quoted>`(?:[^`]|``)*`)
    | (?P<charset>\b_(?:utf8mb4|utf8mb3|utf8|latin1|binary|ascii)\b\s*(?='))
    | (?P<subquery>\(?(?:select\ \#|subquery\#)(?P<number>\d+)(?:;[^()]*)?\)?)
    | (?P<cached><cache>\((?P<constant>'(?:[^'\\]|\\.|'')*'|-?\d+(?:\.\d+)?)
        (?:\s+collate\s+(?P<rule>\w+))?\))
    | (?P<wrapper><(?:cache|expr_cache|ref_null_helper|is_not_null_test|exists)>)
    | (?P<same><=>(?=\s*(?:'|-?\d)))
    | (?P<null_safe><=>)
    | (?P<collate>\bcollate\s+(?P<collation>\w+))
    | (?P<operator>\b(?:mod|div|regexp|rlike)\b)
    | (?P<trigger>\btrigcond(?:_if)?(?=\())
    | (?P<using>\bconvert\((?P<converted>[\w.`]+)\s+using\s+\w+\))
    | (?P<charset_of_cast>\scharset\s+\w+(?=\)))
    | (?P<as_date>\bcast\((?P<moment>[\w.`]+)\s+as\s+(?P<part>date|time)\))
    """,
    re.VERBOSE | re.IGNORECASE,
)
_OPERATORS = {"mod": "%", "div": "/", "regexp": "~", "rlike": "~"}
# The unit of these is no column.
_UNIT = re.compile(r"\b(timestampdiff|timestampadd)\((\w+)(?=,)", re.IGNORECASE)
# What is written in quotes is nobody's to change: while the rest is, a number stands for it.
_WRITTEN = re.compile(r"""'(?:[^']|'')*'|"(?:[^"]|"")*\"""")
_STANDING = re.compile("""(['"])\x01(\\d+)\\1""")
# A database in front of table and column: `feas`.`s`.`status`.
_THREE = re.compile(r'(?<![\w".])(?:\w+|"[^"]+")\.((?:\w+|"[^"]+")\.(?:\w+|"[^"]+"))(?![\w".(])')
_IN_OPTIMIZER = re.compile(r"<in_optimizer>\(")
# How MySQL reads REGEXP.
_MATCHES = re.compile(r"\bregexp_like\(([\w.\"]+), ?('(?:[^']|'')*')\)")
_ESCAPES = {"n": "\n", "t": "\t", "r": "\r", "0": "", "b": "", "Z": ""}
_ESCAPE = re.compile(r"\\(.)", re.DOTALL)


def identifier(name: str) -> str:
    """A name as the core's notation has it."""
    return name if _PLAIN.fullmatch(name) else '"' + name.replace('"', '""') + '"'


@lru_cache(maxsize=4_096)
def noted(text: str) -> str:
    """A condition in brackets; "" for none. A sub-query is ``SubPlan n`` by its select."""
    bare = text.strip().replace("\x01", "")
    if not bare:
        return ""
    written: list[str] = []

    def put_away(found: re.Match[str]) -> str:
        written.append(found[0])
        return f"{found[0][0]}\x01{len(written) - 1}{found[0][0]}"

    changed = _without_in_optimizer(_WRITTEN.sub(put_away, _TOKEN.sub(_changed, bare)))
    changed = _UNIT.sub(r"\1('\2'", changed)
    changed = _MATCHES.sub(r"\1 ~ \2", changed)
    changed = bounds_apart(changed)
    changed = _THREE.sub(lambda m: m[1], changed)
    return f"({_STANDING.sub(lambda m: written[int(m[2])], changed)})"


def keys_of(text: str) -> tuple[str, ...]:
    """The keys of a sort, "shipment.note, shipment.price_c desc", each by itself."""
    return tuple(noted(part)[1:-1].replace(" desc", " DESC") for part in at_commas(text))


def at_commas(text: str) -> list[str]:
    """The parts of a list, commas in brackets and strings left alone."""
    parts, depth, begun, quote = [], 0, 0, ""
    for place, letter in enumerate(text):
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "'`":
            quote = letter
        elif letter == "(":
            depth += 1
        elif letter == ")":
            depth -= 1
        elif letter == "," and depth == 0:
            parts.append(text[begun:place])
            begun = place + 1
    parts.append(text[begun:])
    return [part.strip() for part in parts if part.strip()]


def string(text: str) -> str:
    """A string constant by the standard's rules: no escapes but the doubled quote."""
    inner = text[1:-1].replace("''", "\\'") if text[0] == "'" else text[1:-1].replace('""', '\\"')
    plain = _ESCAPE.sub(lambda m: _ESCAPES.get(m[1], m[1]), inner)
    return "'" + plain.replace("'", "''") + "'"


def _changed(found: re.Match[str]) -> str:
    kind, text = found.lastgroup, found[0]
    if found["string"] is not None:
        return string(text)
    if found["cached"] is not None:
        value = string(found["constant"]) if found["constant"][0] == "'" else found["constant"]
        return f'{value} COLLATE "{found["rule"]}"' if found["rule"] else value
    if found["collate"] is not None:
        return f'COLLATE "{found["collation"]}"'
    if found["quoted"] is not None:
        return identifier(text[1:-1].replace("``", "`"))
    if found["subquery"] is not None:
        return f"(SubPlan {found['number']})"
    if found["same"] is not None:
        return "="  # a value that is there is not NULL
    if found["null_safe"] is not None:
        return "IS NOT DISTINCT FROM"
    if found["operator"] is not None:
        return _OPERATORS[text.lower()]
    if found["as_date"] is not None:
        # The servers' own reading of date(…) and time(…).
        return f"{found['part'].lower()}({noted(found['moment'])[1:-1]})"
    if found["using"] is not None:
        return f"CAST({noted(found['converted'])[1:-1]} AS text)"
    assert kind  # what only the server knows how to read is left out
    return ""


def _without_in_optimizer(text: str) -> str:
    """``<in_optimizer>(a, a in (…))`` as its second part."""
    while (found := _IN_OPTIMIZER.search(text)) is not None:
        depth, place = 1, found.end()
        while place < len(text) and depth:
            depth += {"(": 1, ")": -1}.get(text[place], 0)
            place += 1
        parts = at_commas(text[found.end() : place - 1])
        inner = ", ".join(parts[1:]) or "".join(parts)
        before = text[: found.start()]
        if before.endswith("!"):
            before, inner = before[:-1], f"NOT ({inner})"
        text = f"{before}{inner}{text[place:]}"
    return text
