"""Reading a slow log: our reader against a plain count of the file's lines."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

from humble_ledger.capture.files import LineReader
from humble_ledger.capture.log_entries import LogTally
from humble_ledger.capture.logs import read_log
from humble_ledger.core.statements.fingerprint import normalise, skeleton
from humble_ledger.core.workload.observations import Observation

STATEMENTS = 60_000
PREFIX = "%m [%p] %q%u@%d/%a "
HEAD = "2026-03-01 10:00:00.500 UTC [{pid}] me@skerry/app LOG:  duration: 1.5 ms  statement: "
SQL = "SELECT taken_at, value\n\tFROM reading\n\tWHERE sensor_id = {n} AND note = 'x{n}'\n"


def _groups(seen: list[Observation]) -> set[str]:
    """The fingerprints, found as the ledger finds them: a quick key first."""
    known: dict[str, str] = {}
    for each in seen:
        key = skeleton(each.statement.sql) or each.statement.sql
        if key not in known:
            known[key] = normalise(each.statement.sql).fingerprint
    return set(known.values())


def main() -> None:
    """Write a log of distinct literals, read it, print rates and the ratio."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "server.log"
        with path.open("w") as file:
            for n in range(STATEMENTS):
                file.write(HEAD.format(pid=n % 50) + SQL.format(n=n))
        size = path.stat().st_size / 1e6
        start = time.perf_counter()
        with path.open("rb") as file:
            lines = sum(1 for _ in file)
        counting = time.perf_counter() - start
        start = time.perf_counter()
        seen = list(read_log(LineReader(path), PREFIX, LogTally()))
        reading = time.perf_counter() - start
        start = time.perf_counter()
        groups = _groups(seen)
        grouping = time.perf_counter() - start
    print(f"  {size:.1f} MB, {lines:,} lines, {len(seen):,} statements, {len(groups)} query")
    print(f"  counting lines  {counting * 1000:7.0f} ms   {size / counting:7.1f} MB/s")
    print(f"  reading         {reading * 1000:7.0f} ms   {size / reading:7.1f} MB/s")
    print(f"  grouping        {grouping * 1000:7.0f} ms   {size / grouping:7.1f} MB/s")
    whole = reading + grouping
    print(f"  both            {whole * 1000:7.0f} ms   {size / whole:7.1f} MB/s"
          f"   {whole / counting:.0f}× the count")  # fmt: skip
