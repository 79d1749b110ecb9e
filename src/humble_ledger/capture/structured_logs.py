"""PostgreSQL's csvlog and jsonlog to entries."""

from __future__ import annotations

import csv
from collections.abc import Iterable, Iterator

import msgspec

from humble_ledger.capture.log_entries import LogEntry, LogTally

# The places of the columns; later versions only add columns behind these.
_TIME, _USER, _DATABASE, _PROCESS, _LEVEL, _MESSAGE, _DETAIL, _APPLICATION = (
    0, 1, 2, 3, 11, 13, 14, 22,
)  # fmt: skip
FEWEST_COLUMNS = 23
csv.field_size_limit(512 * 1024 * 1024)


CSV_QUOTE = b'"'


def csv_entries(records: Iterable[str], name: str, tally: LogTally) -> Iterator[LogEntry]:
    """The entries of a csvlog; ``records`` may each have several lines."""
    line = 1
    for record in records:
        begun, lines = line, record.count("\n")
        line += lines
        tally.lines += lines
        try:
            fields = next(csv.reader([record], strict=True), [])
        except csv.Error:
            fields = []
        if len(fields) < FEWEST_COLUMNS:
            tally.unreadable(name, begun)
            continue
        tally.entries += 1
        yield LogEntry(
            level=fields[_LEVEL],
            message=fields[_MESSAGE],
            process=fields[_PROCESS],
            stamp=fields[_TIME],
            user=fields[_USER],
            database=fields[_DATABASE],
            application=fields[_APPLICATION],
            detail=fields[_DETAIL],
        )


class _JsonEntry(msgspec.Struct):
    """The keys of a jsonlog entry that we read."""

    error_severity: str
    message: str = ""
    timestamp: str = ""
    user: str = ""
    dbname: str = ""
    pid: int = 0
    application_name: str = ""
    detail: str = ""


def json_entries(lines: Iterable[str], name: str, tally: LogTally) -> Iterator[LogEntry]:
    """The entries of a jsonlog, one object on each line."""
    decode = msgspec.json.Decoder(_JsonEntry).decode
    for number, line in enumerate(lines, start=1):
        tally.lines += 1
        if not line.strip():
            continue
        try:
            found = decode(line)
        except (msgspec.DecodeError, UnicodeEncodeError):
            tally.unreadable(name, number)
            continue
        tally.entries += 1
        yield LogEntry(
            level=found.error_severity,
            message=found.message,
            process=str(found.pid),
            stamp=found.timestamp,
            user=found.user,
            database=found.dbname,
            application=found.application_name,
            detail=found.detail,
        )
