"""What can be seen of a database file, and what would show more."""

from __future__ import annotations

from collections.abc import Sequence

import apsw

from humble_ledger.core.schema.readiness import Readiness, SourceState
from humble_ledger.engines.sqlite.asking import row
from humble_ledger.engines.sqlite.ground import Ground
from humble_ledger.engines.sqlite.reading import Reader


def readiness(ground: Ground, reader: Reader) -> Sequence[Readiness]:
    """Each source of evidence."""
    return (_statements(), _statistics(ground), _planner(), _journal(reader), _sizes(ground))


def _statements() -> Readiness:
    return Readiness(
        "statements",
        SourceState.OFF,
        "SQLite writes no log and keeps no statistics of statements",
        ("which statements are slow, and the lines of code that send them",),
        (
            "from humble_ledger.recording import record",
            'record(engine, "statements.jsonl")  # then: humble capture log statements.jsonl',
        ),
    )


def _statistics(ground: Ground) -> Readiness:
    tables = [t for t in ground.schema.values() if t.kind == "table" and t.indexes]
    without = [t.name for t in tables if t.name.lower() not in ground.statistics.rows]
    if not without:
        return Readiness(
            "planner statistics", SourceState.ON, f"ANALYZE knows {len(tables)} tables with indexes"
        )
    shown = ", ".join(without[:5]) + (f" and {len(without) - 5} more" if len(without) > 5 else "")
    state = SourceState.PARTLY if ground.statistics.gathered else SourceState.OFF
    return Readiness(
        "planner statistics",
        state,
        "the planner guesses how often values repeat" if not ground.statistics.gathered else
        f"ANALYZE knows {len(tables) - len(without)} of {len(tables)} tables with indexes",
        (f"how often the keys of indexes repeat in {shown}",),
        ("ANALYZE;",),
    )  # fmt: skip


def _planner() -> Readiness:
    return Readiness(
        "planner",
        SourceState.ON,
        f"plans are made by SQLite {apsw.sqlite_lib_version()}, which is built into Humble Ledger; "
        "another version in the application may plan otherwise",
        ("costs and rows of steps: SQLite has none, those shown are estimated by Humble Ledger",),
    )


def _journal(reader: Reader) -> Readiness:
    mode = str(reader.ask(lambda c: row(c, "PRAGMA journal_mode")[0]))
    if reader.locks or mode == "wal":
        return Readiness("reading", SourceState.ON, "WAL mode: readers and writers pass each other")
    return Readiness(
        "reading",
        SourceState.ON,
        "rollback mode: the file is read without locks, and read again when somebody writes",
    )


def _sizes(ground: Ground) -> Readiness:
    if ground.sizes.counted:
        return Readiness("sizes", SourceState.ON, "pages of every table and index are counted")
    return Readiness(
        "sizes",
        SourceState.PARTLY,
        "the file is too large to look at every page",
        ("exact sizes: they are estimated by the rows of a sample",),
    )
