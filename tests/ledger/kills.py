"""Killing writers at random moments, and looking whether anything that was said is lost."""

from __future__ import annotations

import random
import signal
import subprocess
import sys
import time
from contextlib import suppress
from pathlib import Path

from humble_ledger.errors import WrongUsage
from humble_ledger.ledger.care import faults_of
from humble_ledger.ledger.repository import Ledger
from humble_ledger.ledger.store.place import place_of

ROOT = Path(__file__).parents[2]


def killed_at_random(place: str, rounds: int, seed: int) -> tuple[int, list[str]]:
    """Two writers at once, killed ``rounds`` times; how many ids were said, and what is wrong."""
    rng, said, wrong = random.Random(seed), 0, []
    Ledger(place_of(place, ROOT), create=True).close()
    for number in range(rounds):
        writers = [
            subprocess.Popen(
                [sys.executable, "-m", "tests.ledger.writer", place, f"w{number}_{each}"],
                cwd=ROOT, stdout=subprocess.PIPE, text=True,
            )
            for each in range(2)
        ]  # fmt: skip
        first = [w.stdout.readline() for w in writers if w.stdout is not None]  # both are at it
        time.sleep(rng.uniform(0.0, 0.25))
        for writer in writers:
            with suppress(ProcessLookupError):
                writer.send_signal(signal.SIGKILL)
        lines = [line for w in writers for line in w.communicate()[0].splitlines(keepends=True)]
        ids = [line.strip() for line in [*first, *lines] if line.endswith("\n")]
        said += len(ids)
        with Ledger(place_of(place, ROOT)) as ledger:
            wrong += faults_of(ledger)
            for id_ in ids:
                try:
                    ledger.require(id_)
                except WrongUsage:
                    wrong.append(f"{id_} was said to be saved, and is not there")
    return said, wrong
