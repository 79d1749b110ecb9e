"""One log read into a gathering: the same wherever it is done, here or on another machine."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from humble_ledger.capture.assembly import Assembler, Tally
from humble_ledger.capture.files import LogReader
from humble_ledger.capture.log_rows import TOO_LONG
from humble_ledger.capture.logs import read_log
from humble_ledger.core.workload.gathering import Gathering
from humble_ledger.engines.contract.logs import LogFormat

DAMAGED = "file that breaks off"


@dataclass(slots=True)
class Desk:
    """What is filled while logs are read; ``zoned`` tells whether all times are known to be UTC."""

    gathering: Gathering
    tally: Tally
    assembler: Assembler
    zoned: bool = True


def read_onto(
    desk: Desk, reader: LogReader, forms: Sequence[LogFormat], prefix: str | None, start: int,
    size: int, *, alone: bool = False,
) -> Iterator[int]:  # fmt: skip
    """Read a log from the byte ``start`` on; after each block the place behind it.

    ``size`` and ``alone`` tell how to read it, see `logs.read_log`.
    """
    desk.assembler.begin(reader.name, start)
    end = start
    for block in read_log(reader, forms, prefix, size, alone=alone):
        if block.too_long:
            desk.tally.pass_over(TOO_LONG, block.too_long)
            desk.tally.unreadable_at(f"{reader.name}, byte {end:,}: an entry of many MB")
        desk.assembler.take(block.rows)
        desk.zoned &= block.rows.zoned
        end = block.end
        yield end
    if reader.damage:
        desk.tally.pass_over(DAMAGED)
        desk.tally.unreadable_at(f"{reader.name}: {reader.damage}")
