"""The slow log of both members, in all verbosities; see `engines.contract.logs.LogFormat`.

An entry begins with who sent it and ends with the statement: ``# User@Host``, lines of figures,
``SET timestamp``, the text. The time stands before it only when the second changed (MariaDB);
texts hold real ends of lines, some of which look like the head of an entry.
"""

from __future__ import annotations

import json
import re

from humble_ledger.capture.files import Cutter
from humble_ledger.capture.log_rows import PLANNED, RAN, BlockRows, BlockWriter, clean, duration_ms
from humble_ledger.engines.mysql.lexing import readable

ENGINE = "mysql"
ADMINISTRATION = "administrator command"
NO_TEXT = "entry without a statement"

# The head of an entry: who, and then figures. Both lines must be there: one alone may be a text's.
_HEAD = re.compile(
    rb"^(?:# Time: (?P<time>[^\n]+)\n)?"
    rb"# User@Host: (?P<user>[^\[\n]*)\[[^\]\n]*\] @ (?P<host>[^\[\n]*)\[[^\]\n]*\](?P<id>[^\n]*)\n"
    rb"(?=# (?:Thread_id|Query_time|Schema):)",
    re.MULTILINE,
)
_FIGURES = re.compile(rb"(?:# ?[^\n]*\n)*")
_TOOK = re.compile(rb"Query_time: ([0-9.]+)")
_THREAD = re.compile(rb"(?:Thread_id|Id): *(\d+)")
_SCHEMA = re.compile(rb"Schema: (\S*)")
_USE = re.compile(rb"use (`(?:[^`]|``)*`|[^;\n]+);\n", re.IGNORECASE)
_EXPLAINED = b"# explain: "
_STAMP = re.compile(rb"SET timestamp=([0-9.]+);\n", re.IGNORECASE)
# What the server writes when it opens the file again, behind whatever came before.
_OPENED = re.compile(
    rb"^[^\n]*(?:mysqld|mariadbd)[^\n]*, Version: [^\n]*\n(?:Tcp port:[^\n]*\n)?"
    rb"(?:Time +Id +Command[^\n]*\n?|Time\t[^\n]*\n?)?",
    re.MULTILINE,
)
_TAILS_BYTES = (64 * 1024, 1024 * 1024)


def last_cut(data: bytes) -> int | None:
    """Where a block may end: before the last entry that begins in it; None when none does."""
    for begin in (*(max(0, len(data) - tail) for tail in _TAILS_BYTES), 0):
        starts = [match.start() for match in _HEAD.finditer(data, begin) if match.start() > begin]
        if starts:
            return starts[-1]
        if begin == 0:
            break
    return None


def first_start(data: bytes) -> int | None:
    """Where the first entry begins after a line's end; None when none does."""
    return next((m.start() for m in _HEAD.finditer(data) if m.start() > 0), None)


class SlowLog:
    """The slow log as a file."""

    engine, name, fallback = ENGINE, "slow", False
    prefix_setting = ""
    cutter = Cutter(last_cut, first_start)

    def recognises(self, start: bytes, prefix: str | None) -> bool:
        """By the head of an entry, or what the server writes when it opens the file."""
        return _HEAD.search(start) is not None or _OPENED.match(start) is not None

    def fitting(self, start: bytes, prefix: str | None) -> tuple[str | None, str]:
        """No prefix: every line says what it tells."""
        return None, ""

    def rows(self, data: bytes, prefix: str | None, *, columns: bool = False) -> BlockRows:
        """The rows of a block."""
        writer = BlockWriter()
        block = writer.block
        heads = list(_HEAD.finditer(data))
        if heads and data[: heads[0].start()].strip():
            _before_first(data[: heads[0].start()], block)
        elif not heads:
            _before_first(data, block)
        block.lines = data.count(b"\n")
        databases: dict[bytes, bytes] = {}
        place = 0
        while place < len(heads):
            head = heads[place]
            behind, end = place + 1, len(data)
            while behind < len(heads):
                # A text may hold a line that looks like a head: then its string is not closed.
                end = heads[behind].start()
                if not _within_string(data[head.end() : end]):
                    break
                behind, end = behind + 1, len(data)
            _entry(writer, head, data[head.end() : end], databases)
            place = behind
        return writer.finish()


def _entry(
    writer: BlockWriter, head: re.Match[bytes], rest: bytes, databases: dict[bytes, bytes]
) -> None:
    block = writer.block
    block.entries += 1
    lines = _FIGURES.match(rest)
    figures = lines[0] if lines is not None else b""
    if b"administrator command:" in figures:
        block.pass_over(ADMINISTRATION)
        return
    text = rest[len(figures) :]
    took = _TOOK.search(figures)
    found = _THREAD.search(figures) or _THREAD.search(head["id"])
    thread = found[1] if found is not None else b""
    schema = _SCHEMA.search(figures)
    used = _USE.match(text)
    if used is not None:
        text = text[used.end() :]
        databases[thread] = used[1].strip(b"` ")
    stamp = _STAMP.match(text)
    if stamp is not None:
        text = text[stamp.end() :]
    if b"Version: " in text:
        text = _OPENED.sub(b"", text)
    sql = text.strip().rstrip(b";").strip()
    ms = duration_ms(took[1].decode()) if took is not None else None
    if not sql or ms is None:
        block.pass_over(ADMINISTRATION if text.startswith(b"#") else NO_TEXT)
        return
    database = (schema[1] if schema is not None else b"") or databases.get(thread, b"")
    client = writer.client((_text(head["user"].strip()), _text(database.replace(b"``", b"`")), ""))
    if client < 0:
        return
    seconds = ms  # the log has seconds
    row = writer.run(readable(clean(_text(sql))), "", _text(thread), client, seconds * 1000.0)
    row[1] = _ended(stamp, seconds)
    assert row[0] == RAN
    block.rows.append(row)
    if _EXPLAINED in figures:
        name = database.replace(b"``", b"`")
        plan = _plan(figures, clean(_text(sql)), _text(name))
        if plan is not None:
            block.rows.append([PLANNED, row[1], _text(thread), client, row[4], -1, None, plan])


def _plan(figures: bytes, sql: str, database: str) -> str | None:
    """The plan that MariaDB writes with log_slow_verbosity=explain, as a document; None for none.

    Its first line has the columns of the plain table, each further one a row of it.
    """
    lines = [
        line.removeprefix(_EXPLAINED).split(b"\t")
        for line in figures.split(b"\n")
        if line.startswith(_EXPLAINED)
    ]
    names = [_text(name.strip()) for name in lines[0]]
    rows = [dict(zip(names, (_text(value) for value in line), strict=False)) for line in lines[1:]]
    if not rows or "table" not in names:
        return None
    told = {"Query Text": sql, "engine": "mariadb", "database": database, "Plan": {"rows": rows}}
    return json.dumps(told)


def _ended(stamp: re.Match[bytes] | None, seconds: float) -> float | None:
    """When it ended, in seconds since 1970: it began at its timestamp."""
    if stamp is None:
        return None
    try:
        return float(stamp[1]) + seconds
    except ValueError:
        return None


def _text(data: bytes) -> str:
    return data.decode("utf-8", "replace")


_SUSPICIOUS = re.compile(rb"""["\\`#]|--|/\*""")


def _within_string(data: bytes) -> bool:
    """Whether a string that begins in some bytes is still open at their end."""
    lines = _FIGURES.match(data)
    text = data[lines.end() :] if lines is not None else data
    if _SUSPICIOUS.search(text) is None:
        return text.count(b"'") % 2 == 1
    found = _OPEN.match(text)
    return found is not None and found.end() < len(text)


# Everything that is closed; what it does not reach to the end of has something open in it.
_OPEN = re.compile(
    rb"""(?:[^'"`/\#-]|'(?:[^'\\]|\\.|'')*'|"(?:[^"\\]|\\.|"")*"|`(?:[^`]|``)*`
    |/\*.*?\*/|/(?!\*)|\#[^\n]*|--[ \t\n][^\n]*|-)*+""",
    re.VERBOSE | re.DOTALL,
)


def _before_first(data: bytes, block: BlockRows) -> None:
    """Lines that belong to no entry."""
    left = _OPENED.sub(b"", data).strip()
    if left:
        block.unreadable(0, left.count(b"\n") + 1)


LOGS = (SlowLog(),)
