"""The statement log: JSON Lines, one run a line, which any program can write.

The keys are those of `_Run`; docs/guide/record.md tells what they mean.
"""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

import msgspec

from humble_ledger.capture.application.told_rows import (
    APPLICATION,
    FAILED,
    UNDECODABLE,
    ToldWriter,
    first_object,
)
from humble_ledger.capture.files import LINES
from humble_ledger.capture.log_rows import BlockRows
from humble_ledger.core.workload.origins import Origin, of_tags

_MOST_LEFT_OUT = 10**12
LEFT_OUT = "statement left out by the recorder"


class _Run(msgspec.Struct, gc=False):
    """One line; what is not known is left out."""

    statement: str = ""
    at: float | datetime | None = None
    ms: float | None = None
    parameters: list[Any] | dict[str, Any] | None = None
    placeholders: str = ""
    rows: int | None = None
    database: str = ""
    user: str = ""
    application: str = ""
    session: str | int = ""
    request: str = ""
    route: str = ""
    code: str = ""
    function: str = ""
    tags: dict[str, str] = {}
    error: str = ""
    left_out: int = 0


_decode = msgspec.json.Decoder(_Run).decode


class StatementLog:
    """See `engines.contract.logs.LogFormat`."""

    engine, name, fallback = APPLICATION, "statements", False
    prefix_setting = ""
    cutter = LINES

    def recognises(self, start: bytes, prefix: str | None) -> bool:
        """By two keys of its first line that no server's log has together."""
        return {"statement", "ms"} <= first_object(start).keys()

    def fitting(self, start: bytes, prefix: str | None) -> tuple[str | None, str]:
        """No prefix: every line names what it tells."""
        return None, ""

    def rows(self, data: bytes, prefix: str | None, *, columns: bool = False) -> BlockRows:
        """The rows of a block."""
        writer = ToldWriter()
        block = writer.block
        for number, line in enumerate(data.split(b"\n")[:-1]):
            block.lines += 1
            if not line.strip():
                continue
            try:
                _take(writer, _decode(line))
            except UNDECODABLE:
                block.unreadable(number)
                continue
            block.entries += 1
        return block


def _take(writer: ToldWriter, run: _Run) -> None:
    if run.left_out > 0:
        writer.block.pass_over(LEFT_OUT, min(run.left_out, _MOST_LEFT_OUT))
    if run.error:
        writer.block.pass_over(FAILED)
    elif run.statement and run.ms is not None:
        begun = _seconds(writer.block, run.at)
        tagged = of_tags(run.tags) if run.tags else Origin()
        writer.run(
            run.statement,
            None if begun is None else begun + run.ms / 1000.0,
            run.ms,
            style=run.placeholders,
            values=run.parameters,
            rows=run.rows,
            client=(run.user, run.database, run.application),
            session=str(run.session),
            request=run.request,
            origin=Origin(
                run.code or tagged.code, run.function or tagged.function, run.route or tagged.route
            ),
        )


# The last moment that can be written, in seconds since 1970.
_LAST_MOMENT_S = 253_402_300_799.0


def _seconds(block: BlockRows, moment: float | datetime | None) -> float | None:
    """Seconds since 1970; a moment without a zone is taken for UTC, and the block marked."""
    if isinstance(moment, datetime):
        if moment.tzinfo is None:
            block.zoned = False
            moment = moment.replace(tzinfo=UTC)
        moment = moment.timestamp()
    return moment if moment is not None and 0.0 <= moment < _LAST_MOMENT_S else None
