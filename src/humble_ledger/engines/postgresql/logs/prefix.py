"""PostgreSQL's log_line_prefix as a pattern that reads what the server wrote with it."""

from __future__ import annotations

import re

# The frequent ones first: they are tried in this order.
LEVELS = (
    "LOG|DETAIL|STATEMENT|ERROR|FATAL|WARNING|NOTICE|INFO|PANIC|DEBUG[1-5]?|"
    "HINT|QUERY|CONTEXT|LOCATION"
)
_TIME = r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(?:\.\d+)? [A-Za-z0-9+:-]+"
# What a name may be: lengths are bounded, so that a line of junk cannot cost minutes.
_LENGTH = "{0,130}?"
_NAME = rf"[^\n]{_LENGTH}"
# The escapes that name something we keep; a name that occurs twice is kept once.
_ESCAPES = {
    "m": ("time", _TIME),
    "t": ("time", _TIME),
    "n": ("epoch", r"\d+\.\d+"),
    "p": ("pid", r"\d+"),
    "c": ("session", r"[0-9a-f]+\.[0-9a-f]+"),
    "u": ("user", _NAME),
    "d": ("database", _NAME),
    "a": ("application", _NAME),
}
# Those we only step over.
_SKIPPED = {
    "b": _NAME, "r": _NAME, "h": r"\S{0,130}?", "P": r"\d*", "i": _NAME, "e": r"[0-9A-Z]{5}",
    "l": r"\d+", "s": _TIME, "v": _NAME, "x": r"\d+", "Q": r"-?\d+", "L": _NAME,
}  # fmt: skip
_ESCAPE = re.compile(r"%(-?\d+)?([a-zA-Z%])")
# When nobody told us: time, some process number, perhaps user@database/application.
UNKNOWN = (
    rf"(?P<time>{_TIME})[ :]*\[(?P<pid>\d+)\](?:: \[\d+-\d+\])?"
    r"(?:[^:@\n]{0,60}?(?P<user>[\w.$-]{1,63})@(?P<database>[\w.$-]{1,63})"
    r"(?:/(?P<application>[^\s:]{1,64}))?)?[^\n]{0,300}?"
)
_RAN = r"(?:duration: (?P<ran>\d+\.\d+) ms  (?:statement|execute [^:\n]*): )?"
_KEPT = ("time", "epoch", "pid", "session", "user", "database", "application")


def entry_pattern(prefix: str | None) -> re.Pattern[str]:
    """The pattern of an entry: its head, its level, its message with all continuation lines.

    ``prefix`` is the server's setting; None takes the common forms. What the prefix does not
    tell is a group that is always empty. The duration of a statement that ran (ms) is a group
    of its own, ``ran``, and then the message is the statement alone. The end of the last line
    belongs to the entry, so that nothing stands between two of them.
    """
    head = UNKNOWN if prefix is None else _from_setting(prefix)
    missing = "".join(f"(?P<{name}>)" for name in _KEPT if f"(?P<{name}>" not in head)
    return re.compile(
        rf"^{head}{missing}[ \t]*(?P<level>{LEVELS}):  {_RAN}"
        r"(?P<message>[^\n]*(?:\n\t[^\n]*)*)\n?",
        re.MULTILINE,
    )


def _from_setting(prefix: str) -> str:
    parts: list[str] = []
    seen: set[str] = set()
    optional = False
    place = 0
    for escape in _ESCAPE.finditer(prefix):
        between = prefix[place : escape.start()]
        parts.append(re.escape(between))
        if not between and _is_any(_pattern_of(escape[2])) and parts[-2:-1] and _is_any(parts[-2]):
            # Two names with nothing between them: nobody can tell where one ends, and to try
            # every place costs minutes. The first takes all.
            parts.pop()
            place = escape.end()
            continue
        place = escape.end()
        letter = escape[2]
        if letter == "%":
            parts.append("%")
        elif letter == "q":  # what follows stands only in lines of sessions
            parts.append("(?:")
            optional = True
        else:
            parts.append(_group(letter, seen, padded=escape[1] is not None))
    parts.append(re.escape(prefix[place:]))
    return "".join(parts) + (")?" if optional else "")


def _pattern_of(letter: str) -> str:
    return _ESCAPES[letter][1] if letter in _ESCAPES else _SKIPPED.get(letter, "")


def _is_any(pattern: str) -> bool:
    """Whether a pattern takes whatever there is, so that its end must be tried for."""
    return _LENGTH in pattern


def _group(letter: str, seen: set[str], padded: bool) -> str:
    space = " *" if padded else ""
    if letter not in _ESCAPES:
        return space + _SKIPPED.get(letter, _NAME) + space
    name, pattern = _ESCAPES[letter]
    if name in seen:
        return f"{space}{pattern}{space}"
    seen.add(name)
    return f"{space}(?P<{name}>{pattern}){space}"
