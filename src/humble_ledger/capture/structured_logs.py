"""PostgreSQL's csvlog and jsonlog to rows."""

from __future__ import annotations

import csv
import io
import re

import msgspec

from humble_ledger.capture.log_messages import add_statement, row_of
from humble_ledger.capture.log_rows import BlockRows, BlockWriter, clean

# The places of the columns; later versions only add columns behind these.
_TIME, _USER, _DATABASE, _PROCESS, _LEVEL, _MESSAGE, _DETAIL, _STATEMENT, _APPLICATION = (
    0, 1, 2, 3, 11, 13, 14, 19, 22,
)  # fmt: skip
FEWEST_COLUMNS = 23
csv.field_size_limit(512 * 1024 * 1024)
_LEVELS = frozenset(("LOG", "ERROR", "FATAL"))
_CSV_START = re.compile(rb"^\d{4}-\d\d-\d\d \d\d:\d\d:\d\d", re.M)


def csv_rows(data: bytes) -> BlockRows:
    """The rows of a block of a csvlog, whose records may have several lines."""
    text = clean(data.decode("utf-8", "replace"))
    writer = BlockWriter()
    block = writer.block
    block.lines = text.count("\n")
    reader = csv.reader(io.StringIO(text, newline=""), strict=True)
    while True:
        begun = reader.line_num
        try:
            fields = next(reader)
        except StopIteration:
            return block
        except csv.Error:
            fields = []
        if len(fields) < FEWEST_COLUMNS:
            if fields != [] or begun != reader.line_num:
                block.unreadable(begun)
            continue
        block.entries += 1
        if fields[_LEVEL] not in _LEVELS:
            continue
        client = writer.client((fields[_USER], fields[_DATABASE], fields[_APPLICATION]))
        row = row_of(
            writer, fields[_MESSAGE], fields[_TIME], fields[_PROCESS], client, fields[_DETAIL]
        )
        if row is not None:
            add_statement(writer, row, fields[_STATEMENT])
            block.rows.append(row)


def last_csv_cut(data: bytes) -> int | None:
    """Where a block may end: behind the last line that leaves no quote open."""
    cut, odd = len(data), data.count(b'"') % 2
    while (end := data.rfind(b"\n", 0, cut)) >= 0:
        odd = (odd + data.count(b'"', end, cut)) % 2
        if not odd:
            return end + 1
        cut = end
    return None


def first_csv_start(data: bytes) -> int | None:
    """Where the first record begins after a line's end."""
    match = next((m for m in _CSV_START.finditer(data) if m.start() > 0), None)
    return match.start() if match else None


class _JsonEntry(msgspec.Struct, gc=False):
    """The keys of a jsonlog entry that we read."""

    error_severity: str
    message: str = ""
    timestamp: str = ""
    user: str = ""
    dbname: str = ""
    pid: int = 0
    application_name: str = ""
    detail: str = ""
    statement: str = ""


_decode = msgspec.json.Decoder(_JsonEntry).decode


def json_rows(data: bytes) -> BlockRows:
    """The rows of a block of a jsonlog, one object on each line."""
    writer = BlockWriter()
    block = writer.block
    block.lines = data.count(b"\n")
    if b"\\u0000" in data or b"\xee\x80\x80" in data:
        data = data.replace(b"\\u0000", b"?").replace(b"\xee\x80\x80", b"?")
    for number, line in enumerate(data.split(b"\n")):
        if not line.strip():
            continue
        found = _entry(line)
        if found is None:
            block.unreadable(number)
            continue
        block.entries += 1
        if found.error_severity not in _LEVELS:
            continue
        client = writer.client((found.user, found.dbname, found.application_name))
        row = row_of(writer, found.message, found.timestamp, str(found.pid), client, found.detail)
        if row is not None:
            if found.statement:
                add_statement(writer, row, found.statement)
            block.rows.append(row)
    return block


def last_line_end(data: bytes) -> int | None:
    """Where a block may end: behind its last whole line."""
    return data.rfind(b"\n") + 1 or None


def first_line_start(data: bytes) -> int | None:
    """Where the first line begins after a line's end."""
    return data.find(b"\n") + 1 or None


def _entry(line: bytes) -> _JsonEntry | None:
    try:
        return _decode(line)
    except (msgspec.DecodeError, UnicodeDecodeError):
        pass
    try:  # perhaps one broken name
        return _decode(line.decode("utf-8", "replace"))
    except (msgspec.DecodeError, UnicodeDecodeError):
        return None
