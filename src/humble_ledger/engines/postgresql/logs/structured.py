"""PostgreSQL's csvlog and jsonlog to rows."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from functools import partial

import msgspec

from humble_ledger.capture.columns import together
from humble_ledger.capture.line_shapes import NOWHERE, Shape, Shapes, client_of, literal_places
from humble_ledger.capture.log_rows import (
    KEY,
    KIND,
    LITERALS,
    RAN,
    BlockRows,
    BlockWriter,
    Row,
    clean,
    in_order,
)
from humble_ledger.engines.postgresql.logs.messages import add_statement, row_of

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
            writer.finish()
            block.too_long_in(text)
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


def json_rows(data: bytes, shapes: Shapes | None = None, *, columns: bool = False) -> BlockRows:
    """The rows of a block of a jsonlog, one object on each line.

    ``shapes`` are those of the lines of the blocks before. With ``columns`` runs may be given
    as such.
    """
    writer = BlockWriter()
    block = writer.block
    block.lines = data.count(b"\n")
    if b"\\u0000" in data or b"\xee\x80\x80" in data:
        data = data.replace(b"\\u0000", b"?").replace(b"\xee\x80\x80", b"?")
    lines = data.split(b"\n")
    rows: list[Row | None] = [None] * len(lines)
    keys, unknown = lines, list(range(len(lines)))
    able = shapes is not None and shapes.useful
    if shapes is not None and able:
        keys, known, unknown = shapes.of(data)
        alike, _ = writer.known_runs(data.decode("utf-8", "replace").split("\n"), known)
        if columns and alike and len(unknown) == 1 and not lines[-1]:  # all is known
            block.columns = together(alike)
            return block
        rows = in_order(alike, len(lines))
    ran: list[tuple[int, _JsonEntry, Row]] = []
    for place in unknown:
        found = _entry(lines[place]) if lines[place].strip() else None
        if found is None:
            if lines[place].strip():
                block.unreadable(place)
            continue
        row = rows[place] = _row(writer, found)
        if able and row is not None and row[KIND] == RAN:
            ran.append((place, found, row))
    block.rows = [row for row in rows if row is not None]
    writer.finish()
    if block.too_long:
        block.too_long_in(data.decode("utf-8", "replace").replace("\\n", " "))
    for place, found, row in ran:
        if shapes is not None and row[KEY] >= 0:
            wording = block.keys[row[KEY]][0]
            shapes.learn(keys[place], partial(_shape, lines[place], found, wording, row[LITERALS]))
    return block


def _row(writer: BlockWriter, found: _JsonEntry) -> Row | None:
    """The row of an entry, if it has one."""
    writer.block.entries += 1
    if found.error_severity not in _LEVELS:
        return None
    client = writer.client((found.user, found.dbname, found.application_name))
    row = row_of(writer, found.message, found.timestamp, str(found.pid), client, found.detail)
    if row is not None and found.statement:
        add_statement(writer, row, found.statement)
    return row


# A key of ours and its value as it stands. Inside a text a quote has a backslash before it, so
# that this finds keys only.
_VALUE = re.compile(
    r'"(timestamp|user|dbname|pid|application_name|message|detail)"\s*:\s*'
    r'(?:"((?:[^"\\]|\\.)*)"|(\d+))'
)
_ESCAPED = {"n": "\n", "t": "\t", '"': '"', "\\": "\\", "/": "/"}


def _shape(line: bytes, entry: _JsonEntry, wording: str, literals: Sequence[str]) -> Shape | None:
    """The shape of a line about a run; None when not all of it stands there as it means."""
    text = line.decode("utf-8", "replace")
    values = [(m[1], slice(*m.span(m.lastindex or 0))) for m in _VALUE.finditer(text)]
    at = dict(values)
    if len(at) < len(values) or "message" not in at or "\\u" in text:
        return None
    places, message = _unescaped(text, at.pop("message"))
    if message != entry.message or any(text[at[n]] != str(getattr(entry, n)) for n in at):
        return None
    ran = _DURATION.match(message)
    if ran is None:
        return None
    sql = message[ran.end() :]
    first = ran.end() + len(sql) - len(sql.lstrip())
    found = literal_places(text, places[first:], wording, literals)
    if found is None:
        return None
    parts = (
        at.get("user", NOWHERE),
        at.get("dbname", NOWHERE),
        at.get("application_name", NOWHERE),
    )
    return Shape(
        session=at.get("pid", NOWHERE),
        detail=at.get("detail", NOWHERE),
        time=at.get("timestamp", NOWHERE),
        client=client_of(text, *parts),
        client_parts=parts,
        duration=slice(places[ran.start(1)], places[ran.end(1)]),
        wording=wording,
        literals=found,
    )


_DURATION = re.compile(r"duration: (\d+\.\d+) ms  (?:statement|execute [^:\n]*): ")


def _unescaped(text: str, at: slice) -> tuple[list[int], str]:
    """Where each character of a JSON text stands (and where it ends), and the text it means."""
    places, characters, place = [], [], at.start
    while place < at.stop:
        places.append(place)
        if text[place] == "\\":
            place += 1
            characters.append(_ESCAPED.get(text[place], ""))
        else:
            characters.append(text[place])
        place += 1
    return [*places, at.stop], "".join(characters)


# Nesting that never ends is told by an error of Python's own.
_UNDECODABLE = (msgspec.DecodeError, UnicodeDecodeError, RecursionError)


def _entry(line: bytes) -> _JsonEntry | None:
    try:
        return _decode(line)
    except _UNDECODABLE:
        pass
    try:  # perhaps one broken name
        return _decode(line.decode("utf-8", "replace"))
    except _UNDECODABLE:
        return None
