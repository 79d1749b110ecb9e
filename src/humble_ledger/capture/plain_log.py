"""PostgreSQL's plain log to entries.

An entry starts with a line that carries the prefix and a level; lines that begin with a tab
continue it. DETAIL and its kin come as entries of their own from the same process, so each
process keeps its last entry open until it says something else.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from humble_ledger.capture.log_entries import LogEntry, LogTally
from humble_ledger.capture.log_prefix import line_pattern

_ADDENDA = frozenset(("DETAIL", "HINT", "QUERY", "CONTEXT", "LOCATION", "STATEMENT"))


def plain_entries(
    lines: Iterable[str], prefix: str | None, name: str, tally: LogTally
) -> Iterator[LogEntry]:
    """The entries of a plain log, each with its DETAIL, in the order they are complete.

    ``prefix`` is the server's log_line_prefix, None to recognise the common forms.
    """
    opened: dict[str, LogEntry] = {}
    for entry in _pieces(lines, line_pattern(prefix), name, tally):
        if entry.level in _ADDENDA:
            owner = opened.get(entry.process)
            if owner is not None and entry.level == "DETAIL":
                owner.detail = entry.message
            continue
        finished = opened.pop(entry.process, None)
        if finished is not None:
            yield finished
        opened[entry.process] = entry
    yield from opened.values()


def _pieces(
    lines: Iterable[str], pattern: re.Pattern[str], name: str, tally: LogTally
) -> Iterator[LogEntry]:
    current: LogEntry | None = None
    more: list[str] = []
    for number, line in enumerate(lines, start=1):
        tally.lines += 1
        if line[:1] == "\t" and current is not None:
            more.append(line.rstrip("\r\n")[1:])  # the server puts a tab before continuations
            continue
        text = line.rstrip("\r\n")
        match = pattern.match(text)
        if match is None:
            if text.strip():
                tally.unreadable(name, number)
            continue
        if current is not None:
            yield _closed(current, more, tally)
        current, more = _begun(match), []
    if current is not None:
        yield _closed(current, more, tally)


def _begun(match: re.Match[str]) -> LogEntry:
    found = match.groupdict()
    return LogEntry(
        level=found["level"],
        message=found["message"],
        process=found.get("pid") or found.get("session") or "",
        stamp=found.get("time") or found.get("epoch") or "",
        user=found.get("user") or "",
        database=found.get("database") or "",
        application=found.get("application") or "",
    )


def _closed(entry: LogEntry, more: list[str], tally: LogTally) -> LogEntry:
    tally.entries += 1
    if more:
        entry.message = "\n".join([entry.message, *more])
    return entry
