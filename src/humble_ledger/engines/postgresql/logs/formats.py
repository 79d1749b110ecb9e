"""The three forms of PostgreSQL's log; see `engines.contract.logs.LogFormat`."""

from __future__ import annotations

from functools import lru_cache

from humble_ledger.capture.files import LINES, Cutter
from humble_ledger.capture.line_shapes import Shapes
from humble_ledger.capture.log_rows import BlockRows
from humble_ledger.engines.postgresql.logs import plain, structured
from humble_ledger.engines.postgresql.logs.prefix import entry_pattern

ENGINE = "postgresql"
PREFIX_NOT_FITTING = "log_line_prefix that does not fit (recognised instead)"
_CSV_COMMAS = 20  # every csvlog line has at least so many; a plain one rarely
_LINES_LOOKED_AT = 200


class JsonLog:
    """One JSON object per line (jsonlog)."""

    engine, name, fallback = ENGINE, "json", False
    prefix_setting = ""
    cutter = LINES

    def recognises(self, start: bytes, prefix: str | None) -> bool:
        """By its first letter."""
        return start.startswith(b"{")

    def fitting(self, start: bytes, prefix: str | None) -> tuple[str | None, str]:
        """No prefix: every line names what it tells."""
        return None, ""

    def rows(self, data: bytes, prefix: str | None, *, columns: bool = False) -> BlockRows:
        """The rows of a block."""
        return structured.json_rows(data, _shapes(self.name, prefix), columns=columns)


class PlainLog:
    """Lines that begin with log_line_prefix (stderr, syslog without its head)."""

    engine, name, fallback = ENGINE, "plain", True
    prefix_setting = "log_line_prefix"
    cutter = Cutter(plain.last_cut, plain.first_start)

    def recognises(self, start: bytes, prefix: str | None) -> bool:
        """By its first line."""
        line = start.partition(b"\n")[0].decode("utf-8", "replace")
        return any(entry_pattern(each).match(line) is not None for each in (prefix, None))

    def fitting(self, start: bytes, prefix: str | None) -> tuple[str | None, str]:
        """The prefix given, or None (recognise) when it does not fit what stands in the log.

        A server's prefix may have been changed since; a user's may be mistyped.
        """
        if prefix is None:
            return None, ""
        text = b"\n".join(start.split(b"\n")[:_LINES_LOOKED_AT]).decode("utf-8", "replace")
        fits = sum(1 for _ in entry_pattern(prefix).finditer(text))
        known = sum(1 for _ in entry_pattern(None).finditer(text))
        return (prefix, "") if fits * 2 >= known else (None, PREFIX_NOT_FITTING)

    def rows(self, data: bytes, prefix: str | None, *, columns: bool = False) -> BlockRows:
        """The rows of a block."""
        return plain.plain_rows(data, prefix, _shapes(self.name, prefix), columns=columns)


class CsvLog:
    """Comma-separated values (csvlog)."""

    engine, name, fallback = ENGINE, "csv", False
    prefix_setting = ""
    cutter = Cutter(structured.last_csv_cut, structured.first_csv_start)

    def recognises(self, start: bytes, prefix: str | None) -> bool:
        """By the commas of its first line."""
        return start.partition(b"\n")[0].count(b",") >= _CSV_COMMAS

    def fitting(self, start: bytes, prefix: str | None) -> tuple[str | None, str]:
        """No prefix: the columns are always the same."""
        return None, ""

    def rows(self, data: bytes, prefix: str | None, *, columns: bool = False) -> BlockRows:
        """The rows of a block."""
        return structured.csv_rows(data)


LOGS = (JsonLog(), PlainLog(), CsvLog())  # in the order in which they are tried


@lru_cache(maxsize=4)
def _shapes(form: str, prefix: str | None) -> Shapes:
    """The shapes of lines that this process has met in logs of this form."""
    return Shapes()
