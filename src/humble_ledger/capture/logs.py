"""One log file of PostgreSQL, in any of its formats, to observations."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum

from humble_ledger.capture.files import LineReader
from humble_ledger.capture.log_entries import LogTally
from humble_ledger.capture.log_prefix import line_pattern
from humble_ledger.capture.log_statements import observations
from humble_ledger.capture.plain_log import plain_entries
from humble_ledger.capture.structured_logs import CSV_QUOTE, csv_entries, json_entries
from humble_ledger.core.workload.observations import Observation

_CSV_COMMAS = 20  # every csvlog line has at least so many; a plain one rarely


class LogFormat(StrEnum):
    """How a log is written."""

    PLAIN = "plain"
    CSV = "csv"
    JSON = "json"


def recognise(line: str, prefix: str | None) -> LogFormat:
    """The format, by the first line of a file."""
    if line.startswith("{"):
        return LogFormat.JSON
    if line_pattern(prefix).match(line) or line_pattern(None).match(line):
        return LogFormat.PLAIN
    return LogFormat.CSV if line.count(",") >= _CSV_COMMAS else LogFormat.PLAIN


def read_log(reader: LineReader, prefix: str | None, tally: LogTally) -> Iterator[Observation]:
    """Every statement with its duration; what cannot be read is counted and skipped.

    ``prefix`` is the server's log_line_prefix (plain logs only), None to recognise the
    common forms.
    """
    kind = recognise(reader.first_line(), prefix)
    if kind is LogFormat.CSV:
        entries = csv_entries(reader.records(CSV_QUOTE), reader.name, tally)
    elif kind is LogFormat.JSON:
        entries = json_entries(reader, reader.name, tally)
    else:
        entries = plain_entries(reader, prefix, reader.name, tally)
    return observations(entries, tally)
