"""`humble capture log --on`: a fleet's logs read on a cluster of one, two and more workers here.

The same logs are captured without a cluster, and the totals held against each other.
"""

from __future__ import annotations

import json
import os
import subprocess
import tempfile
import time
from pathlib import Path

import msgspec
from tests.capture.cluster import dask_cluster

from benchmarks.log_reading import HUMBLE, PREFIX, plain_entry
from humble_ledger.core.workload.gathering import Gathering
from humble_ledger.core.workload.parts import take_in
from humble_ledger.ledger.repository import Ledger
from humble_ledger.workflow.capturing.cluster import LogFound, LogOrder, read_whole

HUNDRED_TB = 1e8  # MB
LOGS = 24
STATEMENTS = 25_000  # of each log


def captured(folder: Path, logs: list[str], *more: str) -> tuple[float, dict[str, object]]:
    """How long it took, in s, and what was captured by query."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        Ledger(Path(name) / "humble.ledger", create=True).close()
        begun = time.perf_counter()
        subprocess.run(
            [HUMBLE, "capture", "log", *logs, "--prefix", PREFIX, "--json", *more],
            cwd=name, check=True, stdout=subprocess.DEVNULL,
        )  # fmt: skip
        took = time.perf_counter() - begun
        told = subprocess.run(
            [HUMBLE, "queries", "--top", "100", "--json"], cwd=name, check=True,
            stdout=subprocess.PIPE,
        )  # fmt: skip
        rows = json.loads(told.stdout)["queries"]
    return took, {
        row["id"]: (row["calls"], round(row["total_ms"], 3), row["p95_ms"]) for row in rows
    }


def _putting_in(folder: Path, log: str) -> tuple[float, float, int]:
    """Reading a log, putting its part into a ledger (s each), and the bytes a worker sends."""
    order = LogOrder(Path(log), "server.log", 0, b"", PREFIX, False)
    begun = time.perf_counter()
    found = read_whole(order)
    reading = time.perf_counter() - begun
    sent = msgspec.msgpack.encode(found)
    with Ledger(folder / "one.ledger", create=True) as ledger:
        whole, writer = Gathering(), ledger.captures.begin("log", "x")
        writer.keep(take_in(whole, found.part)[0])  # statements are new once
        times = []
        for _ in range(5):
            begun = time.perf_counter()
            again = msgspec.msgpack.decode(sent, type=LogFound)
            writer.keep(take_in(whole, again.part)[0])
            times.append(time.perf_counter() - begun)
    return reading, min(times), len(sent)


def main() -> None:
    """Write the logs, read them every way, print what it took."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        logs = []
        for number in range(LOGS):
            path = folder / f"server{number:02}.log"
            first = number * STATEMENTS
            path.write_text("".join(plain_entry(n) for n in range(first, first + STATEMENTS)))
            os.utime(path, (number, number))
            logs.append(str(path))
        size = sum(Path(each).stat().st_size for each in logs) / 1e6
        took, here = captured(folder, logs)
        print(f"  {LOGS} logs, {size:,.0f} MB, {os.cpu_count()} cores")
        print(f"  here                   {took:6.1f} s  {size / took:6.1f} MB/s")
        reading, keeping, sent = _putting_in(folder, logs[0])
        one = Path(logs[0]).stat().st_size / 1e6
        print(
            f"  one log of {one:.1f} MB: read in {reading:.2f} s by one core ({one / reading:.1f} "
            f"MB/s); its part, {sent / 1e3:,.0f} kB, is put into the ledger in {keeping:.3f} s"
        )
        days = HUNDRED_TB / (one / reading) / 86_400
        print(
            f"  on paper, 100 TB: {days:,.0f} days of one core, {24 * days / 1000:.1f} hours of a "
            f"thousand; in logs of 1 GB, "
            f"{HUNDRED_TB / 1000 * keeping / 3600:.1f} hours of putting in"
        )
        for workers in (1, 2, 4):
            with dask_cluster(workers) as cluster:
                took, there = captured(folder, logs, "--on", cluster.address)
            same = "the same sums" if there == here else "OTHER SUMS"
            print(f"  {workers} workers on a cluster{took:6.1f} s  {size / took:6.1f} MB/s  {same}")


if __name__ == "__main__":
    main()
