"""PostgreSQL's csvlog and jsonlog to rows."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from functools import partial

import msgspec

from humble_ledger.capture.line_shapes import NOWHERE, Shape, Shapes, client_of, literal_places
from humble_ledger.capture.log_messages import add_statement, row_of
from humble_ledger.capture.log_rows import (
    KEY,
    KIND,
    LITERALS,
    RAN,
    BlockRows,
    BlockWriter,
    Row,
    clean,
)

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
            return writer.finish()
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


def json_rows(data: bytes, shapes: Shapes | None = None) -> BlockRows:
    """The rows of a block of a jsonlog, one object on each line.

    ``shapes`` are those of the lines of the blocks before.
    """
    writer = BlockWriter()
    block = writer.block
    block.lines = data.count(b"\n")
    if b"\\u0000" in data or b"\xee\x80\x80" in data:
        data = data.replace(b"\\u0000", b"?").replace(b"\xee\x80\x80", b"?")
    lines = data.split(b"\n")
    useful = shapes is not None and shapes.useful
    nothing = [None] * len(lines)
    keys, known, _ = shapes.of(data) if shapes is not None and useful else (lines, nothing, ())
    texts = data.decode("utf-8", "replace").split("\n") if useful else ()
    rows, _ = writer.known_rows(texts, known) if useful else (nothing, ())
    unknown: list[tuple[bytes, bytes, _JsonEntry, Row]] = []
    for number, (line, key, shape, ran) in enumerate(zip(lines, keys, known, rows, strict=True)):
        if ran is not None:
            block.rows.append(ran)
        if shape is not None or not line.strip():
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
            if useful and row[KIND] == RAN:
                unknown.append((line, key, found, row))
    writer.finish()
    for line, key, found, row in unknown:
        if shapes is not None and shapes.useful and row[KEY] >= 0:
            wording = block.keys[row[KEY]][0]
            shapes.learn(key, partial(_shape, line, found, wording, row[LITERALS]))
    return block


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
