"""PostgreSQL's plain log to rows.

An entry starts with a line that carries the prefix and a level; lines that begin with a tab
continue it. DETAIL, STATEMENT and their kin come as entries of their own from the same
process, so each process's last row stays at hand for them.
"""

from __future__ import annotations

import re
from functools import lru_cache

from humble_ledger.capture.log_messages import add_detail, add_statement, row_of, run_of
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
    pattern, order = _reading(prefix)
    # What stands between entries, then each entry's groups, again and again.
    parts, width = pattern.split(text), pattern.groups + 1
    between = parts[::width]
    if any(between):
        _between(text, pattern, block)
    last: dict[str, Row | None] = {}
    clients: dict[tuple[str | None, ...], int] = {}
    for level, message, stamp, session, user, database, application, ran in zip(
        *(parts[place::width] for place in order), strict=True
    ):
        # A tab at the start of a line is the server's own mark of a continuation.
        words = message.replace("\n\t", "\n") if "\n" in message else message
        if level in _ADDENDA:
            _add(writer, last.get(session), level, words)
            continue
        block.entries += 1
        row = None
        if level in _MESSAGES:
            client = clients.get((user, database, application))
            if client is None:
                client = writer.client((user or "", database or "", application or ""))
                clients[user, database, application] = client
            if ran is None:
                row = row_of(writer, words, stamp or "", session or "", client)
            else:
                row = run_of(writer, words, stamp or "", session or "", client, float(ran))
            if row is not None:
                block.rows.append(row)
        last[session] = row
    return block


def _add(writer: BlockWriter, row: Row | None, level: str, words: str) -> None:
    if row is not None and level == "DETAIL":
        add_detail(row, words)
    elif row is not None and level == "STATEMENT":
        add_statement(writer, row, words)


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
        "pid" if "pid" in names else "session", "user", "database", "application", "ran",
    )  # fmt: skip
    return pattern, tuple(names[name] for name in order)


def _between(text: str, pattern: re.Pattern[str], block: BlockRows) -> None:
    """Count the lines that stand between entries; empty ones do not matter."""
    end = 0
    starts = [(match.start(), match.end()) for match in pattern.finditer(text)]
    for start, next_end in [*starts, (len(text), 0)]:
        between = text[end:start]
        lines = [n for n, line in enumerate(between.split("\n")) if line.strip()]
        if lines:
            block.unreadable(text.count("\n", 0, end) + lines[0], len(lines))
        end = next_end
