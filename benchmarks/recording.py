"""What recording adds to a statement, in microseconds: the application's own work is nothing here.

Each pair of figures is of the same statements, without the recorder and with it, by turns.
"""

from __future__ import annotations

import sqlite3
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from sqlalchemy import create_engine, text
from sqlalchemy.pool import StaticPool

from benchmarks.log_reading import machine_ms
from humble_ledger.recording import record, request

STATEMENTS, ROUNDS, DEPTH = 1_000, 40, 20
_MOST = {"most_a_second": 10**9}


def main() -> None:
    """A driver's connection, and an engine of SQLAlchemy, both over SQLite in memory."""
    with tempfile.TemporaryDirectory() as folder:
        log = Path(folder) / "statements.jsonl"
        plain = filled(sqlite3.connect(":memory:"))
        told("sqlite3", by_driver(plain), by_driver(record(plain, log, **_MOST)))
        engines = [create_engine("sqlite://", poolclass=StaticPool) for _ in range(2)]
        record(engines[1], log, **_MOST)
        for engine in engines:
            raw = engine.raw_connection()
            filled(raw.driver_connection)
            raw.close()
        told("SQLAlchemy", *(by_engine(engine) for engine in engines))
    print(f"  the machine's empty loop of a million turns: {machine_ms():.0f} ms")


def filled(connection: Any) -> Any:
    connection.execute("CREATE TABLE buoy (id integer PRIMARY KEY, name text)")
    connection.executemany("INSERT INTO buoy VALUES (?, ?)", [(n, f"b{n}") for n in range(100)])
    connection.commit()
    return connection


def by_driver(connection: Any) -> Callable[[], None]:
    def send() -> None:
        for n in range(STATEMENTS):
            connection.execute("SELECT name FROM buoy WHERE id = ?", (n % 100,)).fetchall()

    return send


def by_engine(engine: Any) -> Callable[[], None]:
    query = text("SELECT name FROM buoy WHERE id = :id")

    def send() -> None:
        with engine.connect() as connection:
            for n in range(STATEMENTS):
                connection.execute(query, {"id": n % 100}).all()

    return send


def deep(send: Callable[[], None], depth: int = DEPTH) -> None:
    """An application stands on many frames of its framework."""
    if depth:
        deep(send, depth - 1)
        return
    send()


def told(name: str, plain: Callable[[], None], recorded: Callable[[], None]) -> None:
    took: list[list[float]] = [[], []]
    for _ in range(ROUNDS):
        for send, times in zip((plain, recorded), took, strict=True):
            with request("GET /buoys"):
                begun = time.perf_counter()
                deep(send)
                times.append((time.perf_counter() - begun) / STATEMENTS * 1e6)
    # Neighbours only ever add: the quickest round of each is the program's own.
    least, middle = ([each(times) for times in took] for each in (min, statistics.median))
    print(
        f"  {name:10} {least[1] - least[0]:5.1f} µs added to each statement of {least[0]:.1f} µs "
        f"(the quickest rounds; medians {middle[1] - middle[0]:.1f} and {middle[0]:.1f})"
    )


if __name__ == "__main__":
    main()
