"""`humble capture log` on a million of the demo's statements, distinct literals: plain, JSON, and
as an application records them.

`python -m benchmarks.log_reading 5000` reads a plain log of 5,000 MB instead, to see that
memory stays flat.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from humble_ledger.demo.workload import load_workload
from humble_ledger.ledger.repository import Ledger

STATEMENTS = 1_000_000
PREFIX = "%m [%p] %q%u@%d/%a "
# The statements of the demo's applications, each time with other literals.
SQL = tuple(
    re.sub(r"\$(\d)", r"{n}\1", each.sql.replace("{", "{{").replace("}", "}}"))
    for each in load_workload()
)
HUMBLE = str(Path(sys.executable).parent / "humble")
_BLOCK = 5000


def _message(n: int) -> str:
    return f"duration: {n % 977 * 1.01:.3f} ms  statement: {SQL[n % len(SQL)].format(n=n)}"


def _stamp(n: int) -> str:
    return (
        f"2026-03-01 {n // 3_600_000 % 24:02d}:{n // 60_000 % 60:02d}:{n // 1000 % 60:02d}.500 UTC"
    )


def plain_entry(n: int) -> str:
    """One entry of a plain log."""
    message = _message(n).replace("\n", "\n\t")
    return f"{_stamp(n)} [{n % 90}] me@skerry/app LOG:  {message}\n"


def json_entry(n: int) -> str:
    """The same entry of a jsonlog."""
    entry = {
        "timestamp": _stamp(n), "user": "me", "dbname": "skerry", "pid": n % 90,
        "remote_host": "[local]", "session_id": "65e1a2b3.4d2", "line_num": n, "ps": "SELECT",
        "error_severity": "LOG", "message": _message(n), "application_name": "app",
        "backend_type": "client backend", "query_id": 0,
    }  # fmt: skip
    return json.dumps(entry) + "\n"


def recorded_entry(n: int) -> str:
    """The same statement as an application records it, from one of twenty places."""
    entry = {
        "at": 1_772_359_200 + n / 1000, "ms": round(n % 977 * 1.01, 3),
        "statement": SQL[n % len(SQL)].format(n=n), "database": "skerry", "user": "me",
        "session": n % 90, "application": "app", "rows": n % 50, "request": f"r{n // 25}",
        "route": "GET /buoys", "code": f"skerry/pages.py:{n % 20}", "function": "listed",
    }  # fmt: skip
    return json.dumps(entry) + "\n"


def write_log(path: Path, entry: Callable[[int], str], statements: int, megabytes: int = 0) -> int:
    """Write so many statements, or so many MB; the number of statements."""
    n = 0
    with path.open("w") as file:
        while n < statements or (megabytes and file.tell() < megabytes * 1e6):
            block = "".join(entry(k) for k in range(n, n + _BLOCK))
            # A very large file need not be all different.
            for _ in range(8 if megabytes else 1):
                file.write(block)
                n += _BLOCK
    return n


def memory_of(pid: int) -> float:
    """The memory of a process and its children in MB, shared pages counted once."""
    total = 0
    for each in [pid, *_children(pid)]:
        try:
            for line in Path(f"/proc/{each}/smaps_rollup").read_text().splitlines():
                if line.startswith("Pss:"):
                    total += int(line.split()[1])
        except OSError:
            continue
    return total / 1024


def _children(pid: int) -> list[int]:
    try:
        found = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    except OSError:
        return []
    return [int(child) for child in found]


def machine_ms() -> float:
    """A million empty turns of a loop: 15 to 20 ms on a machine at its ease."""
    start = time.perf_counter()
    for _ in range(1_000_000):
        pass
    return (time.perf_counter() - start) * 1000


def measure(name: str, path: Path, statements: int) -> None:
    """Capture a log with the program, and print rate and memory."""
    size = path.stat().st_size / 1e6
    start = time.perf_counter()
    with path.open("rb") as file:
        lines = sum(1 for _ in file)
    counting = time.perf_counter() - start
    with tempfile.TemporaryDirectory() as folder:
        Ledger(Path(folder) / "humble.ledger", create=True).close()
        before = machine_ms()
        start = time.perf_counter()
        command = [HUMBLE, "capture", "log", str(path), "--prefix", PREFIX, "--json"]
        with subprocess.Popen(command, cwd=folder, stdout=subprocess.PIPE, text=True) as program:
            most = 0.0
            while program.poll() is None:
                most = max(most, memory_of(program.pid))
                time.sleep(0.5)  # looking takes milliseconds of a core itself
            assert program.stdout is not None
            done = json.loads(program.stdout.read())
        seconds = time.perf_counter() - start
        machine = (before + machine_ms()) / 2
        ledger = sum(f.stat().st_size for f in Path(folder).glob("humble.ledger*")) / 1e6
    assert done["kept_runs"] == statements, (done["kept_runs"], statements)
    print(
        f"  {name:6} {size:7,.0f} MB  {statements:>11,} statements  {seconds:6.1f} s  "
        f"{size / seconds:5.1f} MB/s  {most:4.0f} MB of memory  ledger {ledger:3.0f} MB"
    )
    print(
        f"         counting its {lines:,} lines alone: {counting:.2f} s, {seconds / counting:.0f}× "
        f"as quick; the machine's empty loop {machine:.0f} ms, {os.cpu_count()} cores"
    )


def main() -> None:
    """Write the logs, read them, print what it took."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "server.log"
        if len(sys.argv) > 1 and sys.argv[1].isdigit():
            measure("plain", path, write_log(path, plain_entry, 0, int(sys.argv[1])))
            return
        forms = (("plain", plain_entry), ("JSON", json_entry), ("own", recorded_entry))
        for name, entry in forms:
            measure(name, path, write_log(path, entry, STATEMENTS))


if __name__ == "__main__":
    main()
