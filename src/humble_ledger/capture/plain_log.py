"""PostgreSQL's plain log to rows.

An entry starts with a line that carries the prefix and a level; lines that begin with a tab
continue it. DETAIL, STATEMENT and their kin come as entries of their own from the same
process, so each process's last row stays at hand for them.
"""

from __future__ import annotations

import re
from functools import lru_cache

from humble_ledger.capture.log_messages import add_detail, add_statement, row_of
from humble_ledger.capture.log_prefix import entry_pattern
from humble_ledger.capture.log_rows import BlockRows, BlockWriter, Row, clean

_MESSAGES = frozenset(("LOG", "ERROR", "FATAL"))
_ADDENDA = frozenset(("DETAIL", "HINT", "QUERY", "CONTEXT", "LOCATION", "STATEMENT"))
# The start of an entry of its own, sought near the beginning of a line: a block may be cut
# before it, because nothing that follows belongs to what stands before.
_ENTRY_START = re.compile(
    rb"^(?=[^\t\n])[^\n]{0,400}?(?:LOG|ERROR|FATAL|PANIC|WARNING|NOTICE|INFO|DEBUG[1-5]?):  ", re.M
)
_TAIL_BYTES = 64 * 1024


def plain_rows(data: bytes, prefix: str | None) -> BlockRows:
    """The rows of a block of a plain log.

    ``prefix`` is the server's log_line_prefix, None to recognise the common forms.
    """
    text = clean(data.decode("utf-8", "replace"))
    if "\r\n" in text:
        text = text.replace("\r\n", "\n")
    writer = BlockWriter()
    block = writer.block
    block.lines = text.count("\n")
    pattern, wanted = _reading(prefix)
    last: dict[str, Row | None] = {}
    expected = 0
    for match in pattern.finditer(text):
        start = match.start()
        if start != expected:
            _between(text, expected, start, block)
        expected = match.end() + 1
        level, message, stamp, session, user, database, application = match.group(*wanted)
        if "\n" in message:
            message = message.replace("\n\t", "\n")  # the server's own mark of a continuation
        if level in _ADDENDA:
            row = last.get(session)
            if row is not None and level == "DETAIL":
                add_detail(row, message)
            elif row is not None and level == "STATEMENT":
                add_statement(writer, row, message)
            continue
        block.entries += 1
        row = None
        if level in _MESSAGES:
            who = (user or "", database or "", application or "")
            row = row_of(writer, message, stamp or "", session or "", who)
            if row is not None:
                block.rows.append(row)
        last[session] = row
    if expected < len(text):
        _between(text, expected, len(text), block)
    return block


def last_cut(data: bytes) -> int | None:
    """Where a block may end: before the last entry that begins in it; None when none does."""
    for begin in (max(0, len(data) - _TAIL_BYTES), 0):
        starts = [match.start() for match in _ENTRY_START.finditer(data, begin) if match.start()]
        if begin:  # the first line may have been cut by the window
            starts = [start for start in starts if data[start - 1 : start] == b"\n"]
        if starts:
            return starts[-1]
        if begin == 0:
            break
    # Nothing in it is an entry: it may as well be cut after any line.
    return None if _ENTRY_START.match(data) else (data.rfind(b"\n") + 1 or None)


def first_start(data: bytes) -> int | None:
    """Where the first entry begins after a line's end; None when none does."""
    match = next((m for m in _ENTRY_START.finditer(data) if m.start() > 0), None)
    return match.start() if match else None


@lru_cache(maxsize=4)
def _reading(prefix: str | None) -> tuple[re.Pattern[str], tuple[int, ...]]:
    """The pattern of an entry, and the places of its groups in the order we take them."""
    pattern = entry_pattern(prefix)
    names = pattern.groupindex
    order = (
        "level", "message", "time" if "time" in names else "epoch",
        "pid" if "pid" in names else "session", "user", "database", "application",
    )  # fmt: skip
    return pattern, tuple(names[name] for name in order)


def _between(text: str, start: int, end: int, block: BlockRows) -> None:
    """Count what stands between entries; empty lines do not matter."""
    lines = [n for n, line in enumerate(text[start:end].split("\n")) if line.strip()]
    if lines:
        block.unreadable(text.count("\n", 0, start) + lines[0], len(lines))
