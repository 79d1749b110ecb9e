"""Rows of what an application tells of its runs; see `capture.log_rows`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec

from humble_ledger.capture.log_rows import RAN, BlockRows, BlockWriter, clean, duration_ms
from humble_ledger.core.statements.kinds import LONGEST_STATEMENT
from humble_ledger.core.statements.placeholders import numbered, values_in_order
from humble_ledger.core.workload.origins import Origin, plain_name

APPLICATION = "application"  # what `LogFormat.engine` says of a log that no server wrote
FAILED = "statement that failed"
_LONGEST_SESSION = 40
_LONGEST_NAME = 80
# Nesting that never ends is told by an error of Python's own.
# A number of thousands of digits is a ValueError, as are the others.
UNDECODABLE = (ValueError, RecursionError)
_MOST_ROWS = 2**53
Values = Sequence[Any] | Mapping[str, Any] | None


class ToldWriter:
    """Collects the runs of one block."""

    def __init__(self) -> None:
        self._writer = BlockWriter()
        self.block: BlockRows = self._writer.block
        self._origins: dict[tuple[str, str, str], int] = {}

    def run(
        self,
        sql: str,
        ended_s: float | None,
        ms: float,
        *,
        style: str = "",
        values: Values = None,
        rows: int | None = None,
        client: tuple[str, str, str] = ("", "", ""),
        session: str = "",
        request: str = "",
        origin: Origin,
    ) -> None:
        """One run: the statement as the driver took it, its values, who sent it from where.

        A run without a duration that can be one is passed over.
        """
        took = duration_ms(str(ms))
        who = self._writer.client(tuple(clean(each)[:_LONGEST_NAME] for each in client))  # type: ignore[arg-type]
        if took is None or who < 0:
            self.block.pass_over("duration that cannot be one" if took is None else "our own")
            return
        # What is too long is not taken apart; it is passed over below.
        text, keys = numbered(clean(sql), style if len(sql) <= LONGEST_STATEMENT else "")
        key, literals = self._writer.statement(text)
        if key < 0:
            return
        rows = rows if rows is not None and 0 <= rows < _MOST_ROWS else None
        given = values_in_order(_as_texts(values), keys)  # which may raise: the two lists are one
        self.block.rows.append(
            [RAN, ended_s, clean(session)[:_LONGEST_SESSION], who, took, key, literals, ""]
        )
        self.block.told.append((self._origin(origin), rows, given, clean(request)[:_LONGEST_NAME]))

    def _origin(self, origin: Origin) -> int:
        if not origin:
            return -1
        parts = (_plain(origin.code), _plain(origin.function), _plain(origin.route))
        if parts not in self._origins:
            self._origins[parts] = len(self.block.origins)
            self.block.origins.append(parts)
        return self._origins[parts]


def _plain(text: str) -> str:
    return plain_name(clean(text))


def _as_texts(values: Values) -> Sequence[str | None] | Mapping[str, str | None]:
    if isinstance(values, Mapping):
        return {str(name): as_text(value) for name, value in values.items()}
    return [as_text(value) for value in values or ()]


def as_text(value: object) -> str | None:
    """A value as a server reads it: lists as arrays in braces, objects as JSON."""
    if value is None:
        return None
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, list):
        return "{" + ",".join(_element(each) for each in value) + "}"
    if isinstance(value, dict):
        return clean(msgspec.json.encode(value).decode())
    return clean(str(value))


def _element(value: object) -> str:
    if isinstance(value, list):
        return as_text(value) or ""
    text = as_text(value)
    if text is None:
        return "NULL"
    if isinstance(value, str | dict):
        return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'
    return text


def first_object(start: bytes) -> Mapping[str, object]:
    """The object on the first line of a log; empty when there is none."""
    try:
        found = msgspec.json.decode(start.partition(b"\n")[0])
    except UNDECODABLE:
        return {}
    return found if isinstance(found, dict) else {}
