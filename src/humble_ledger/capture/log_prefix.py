"""PostgreSQL's log_line_prefix as a pattern that reads what the server wrote with it."""

from __future__ import annotations

import re

LEVELS = (
    "DEBUG[1-5]?|INFO|NOTICE|WARNING|ERROR|LOG|FATAL|PANIC|"
    "DETAIL|HINT|QUERY|CONTEXT|LOCATION|STATEMENT"
)
_TIME = r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(?:\.\d+)? [A-Za-z0-9+:-]+"
# The escapes that name something we keep; a name that occurs twice is kept once.
_ESCAPES = {
    "m": ("time", _TIME),
    "t": ("time", _TIME),
    "n": ("epoch", r"\d+\.\d+"),
    "p": ("pid", r"\d+"),
    "c": ("session", r"[0-9a-f]+\.[0-9a-f]+"),
    "u": ("user", r".*?"),
    "d": ("database", r".*?"),
    "a": ("application", r".*?"),
}
# Those we only step over.
_SKIPPED = {
    "b": r".*?", "r": r".*?", "h": r"\S*?", "P": r"\d*", "i": r".*?", "e": r"[0-9A-Z]{5}",
    "l": r"\d+", "s": _TIME, "v": r".*?", "x": r"\d+", "Q": r"-?\d+", "L": r".*?",
}  # fmt: skip
_ESCAPE = re.compile(r"%(-?\d+)?([a-zA-Z%])")
# When nobody told us: time, some process number, perhaps user@database/application.
UNKNOWN = (
    rf"(?P<time>{_TIME})[ :]*\[(?P<pid>\d+)\](?:: \[\d+-\d+\])?"
    r"(?:[^:@\n]*?(?P<user>[\w.$-]+)@(?P<database>[\w.$-]+)(?:/(?P<application>[^\s:]+))?)?[^\n]*?"
)


def line_pattern(prefix: str | None) -> re.Pattern[str]:
    """The pattern of a line's head: the prefix, the level, and where the message starts.

    ``prefix`` is the server's setting; None takes the common forms.
    """
    head = UNKNOWN if prefix is None else _from_setting(prefix)
    return re.compile(rf"{head}\s*(?P<level>{LEVELS}):  (?P<message>.*)", re.DOTALL)


def _from_setting(prefix: str) -> str:
    parts: list[str] = []
    seen: set[str] = set()
    optional = False
    place = 0
    for escape in _ESCAPE.finditer(prefix):
        parts.append(re.escape(prefix[place : escape.start()]))
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


def _group(letter: str, seen: set[str], padded: bool) -> str:
    space = r"\s*" if padded else ""
    if letter not in _ESCAPES:
        return space + _SKIPPED.get(letter, ".*?") + space
    name, pattern = _ESCAPES[letter]
    if name in seen:
        return f"{space}{pattern}{space}"
    seen.add(name)
    return f"{space}(?P<{name}>{pattern}){space}"
