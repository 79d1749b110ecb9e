"""A real cluster on this machine: a scheduler and workers, a process each."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from distributed import Client

from tests.program import PATIENCE_S

DASK = str(Path(sys.executable).parent / "dask")


@dataclass(frozen=True)
class DaskCluster:
    """Its scheduler's address, and the processes of both."""

    address: str
    scheduler: subprocess.Popen[bytes]
    workers: tuple[subprocess.Popen[bytes], ...]


@contextmanager
def dask_cluster(workers: int) -> Iterator[DaskCluster]:
    """A cluster that is gone afterwards, however its user fared."""
    started: list[subprocess.Popen[bytes]] = []

    def start(*arguments: str) -> None:
        command = [DASK, *arguments, "--no-dashboard"]
        started.append(
            subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        )

    with TemporaryDirectory() as folder:
        file = Path(folder) / "scheduler.json"
        place = ("--scheduler-file", str(file))
        try:
            start("scheduler", "--host", "127.0.0.1", "--port", "0", *place)
            for _ in range(workers):
                start("worker", *place, "--host", "127.0.0.1", "--nthreads", "1", "--no-nanny",
                      "--local-directory", folder)  # fmt: skip
            give_up = time.monotonic() + PATIENCE_S
            while not file.exists():
                assert time.monotonic() < give_up and started[0].poll() is None
                time.sleep(0.05)
            if workers:
                with Client(scheduler_file=str(file), set_as_default=False) as client:
                    client.wait_for_workers(workers, timeout=PATIENCE_S)
            address = str(json.loads(file.read_text())["address"])
            yield DaskCluster(address, started[0], tuple(started[1:]))
        finally:
            for each in started:
                each.kill()
                each.wait()
