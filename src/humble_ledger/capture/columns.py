"""The runs of a block as columns: quicker to send between processes, and to count, than rows.

Of a million runs that are counted, a few thousand are looked at one by one (those kept as
examples, and those short enough to be part of a loop). So a helping process turns its rows
into columns of plain numbers, which NumPy counts a block at a time.
"""

from __future__ import annotations

from array import array
from collections.abc import Sequence
from math import nan
from typing import Any

from humble_ledger.capture.log_rows import (
    KIND,
    PLANNED,
    RAN,
    TOOK,
    AlikeRuns,
    BlockRows,
    Row,
    RunColumns,
    joined,
)

# What these say touches the runs before or behind them: such blocks stay rows.
_NEEDS_ORDER = frozenset((PLANNED, TOOK))


def packed(block: BlockRows) -> tuple[object, ...]:
    """A block as plain things, its runs as columns where their order does not matter."""
    if block.columns is None and not block.told:
        block.columns, block.rows = parted(block.rows)
    plain = {name: getattr(block, name) for name in BlockRows.__slots__}
    if block.columns is not None:
        plain["columns"] = [getattr(block.columns, name) for name in RunColumns.__slots__]
    return tuple(plain.values())


def unpacked(plain: tuple[Any, ...]) -> BlockRows:
    """The block that was packed."""
    block = BlockRows(*plain)
    if block.columns is not None:
        block.columns = RunColumns(*plain[-1])
    return block


def parted(rows: list[Row]) -> tuple[RunColumns | None, list[Row]]:
    """The runs as columns and the other rows; all as rows when their order matters."""
    others = [row for row in rows if row[KIND] != RAN]
    if len(others) == len(rows) or any(row[KIND] in _NEEDS_ORDER for row in others):
        return None, rows
    if others:
        rows = [row for row in rows if row[KIND] == RAN]
    _, ends, sessions, clients, durations, keys, literals, details = zip(*rows, strict=True)
    names = {name: place for place, name in enumerate(dict.fromkeys(sessions))}
    columns = RunColumns(
        array("d", [nan if end is None else end for end in ends]).tobytes(),
        array("d", durations).tobytes(),
        array("i", keys).tobytes(),
        array("i", clients).tobytes(),
        array("i", [names[name] for name in sessions]).tobytes(),
        list(names),
        [joined(each) for each in literals],
        {place: detail for place, detail in enumerate(details) if detail} if any(details) else {},
    )
    return columns, others


def together(alike: Sequence[AlikeRuns]) -> RunColumns:
    """Runs of lines of some shapes as columns."""
    ends, durations = array("d"), array("d")
    keys, clients, sessions, places = array("i"), array("i"), array("i"), array("i")
    names: dict[str, int] = {}
    literals: list[str] = []
    details: dict[int, str] = {}
    for each in alike:
        if each.details is not None:
            details.update(enumerate(each.details, len(ends)))
        ends.extend([nan if end is None else end for end in each.times])
        durations.extend(each.durations)
        keys.extend([each.key] * len(each.lines))
        clients.extend(each.clients)
        for name in dict.fromkeys(each.sessions):
            names.setdefault(name, len(names))
        sessions.extend([names[name] for name in each.sessions])
        places.extend(each.lines)
        if len(each.literals) == 1:
            literals += each.literals[0]
        else:
            found = zip(*each.literals, strict=True)
            literals += map(joined, found) if each.literals else [""] * len(each.lines)
    return RunColumns(
        ends.tobytes(), durations.tobytes(), keys.tobytes(), clients.tobytes(), sessions.tobytes(),
        list(names), literals, {n: detail for n, detail in details.items() if detail},
        places.tobytes(),
    )  # fmt: skip
