"""Statements drawn at random through every command, on schemas drawn at random.

`python -m benchmarks.generated --statements 500 --seed 7` prints each fault with its statement.
With `--sqlsmith PATH` the statements are those of that generator, on the demo's database.
"""

from __future__ import annotations

import argparse
import os
import re
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from random import Random

from tests.generated.going_through import Fault, Gone, go_through, ground, on_demo

from humble_ledger.demo.scenario import build_scenario, scenario_cluster
from humble_ledger.engines.launching.keeping import FOLDER_VARIABLE
from humble_ledger.engines.postgresql.launcher import Cluster, all_binaries


def main(arguments: list[str] | None = None) -> None:
    """Print what did not go through, and the longest time of each command."""
    words = argparse.ArgumentParser("benchmarks.generated", description=__doc__)
    words.add_argument("--statements", type=int, default=100)
    words.add_argument("--seed", type=int, default=0)
    words.add_argument("--major", type=int, default=18)
    words.add_argument("--sqlsmith", default="")
    asked = words.parse_args(arguments if arguments is not None else [])
    binaries = next(b for b in all_binaries() if b.major == asked.major)
    random = Random(asked.seed)
    with (
        tempfile.TemporaryDirectory() as folder,
        tempfile.TemporaryDirectory(dir="/var/tmp") as kept,
    ):
        Path(kept).chmod(0o755)  # the server's user must get through
        os.environ[FOLDER_VARIABLE] = kept
        if asked.sqlsmith:
            with scenario_cluster(binaries) as cluster:
                url = build_scenario(cluster)
                with on_demo(cluster, url, Path(folder)) as place:
                    write = _of(asked.sqlsmith, url, asked.seed)
                    gone = go_through(place, random, asked.statements, write, _told)
        else:
            with Cluster(binaries) as cluster, ground(cluster, random, Path(folder)) as place:
                gone = go_through(place, random, asked.statements, report=_told)
    _summed(gone)


def _of(program: str, url: str, seed: int) -> Callable[[], str]:
    """A generator's statements, one at a time."""
    statements = _statements(program, url, seed)
    return lambda: next(statements)


# It writes one statement right behind the other, without a mark between them; those inside
# another one stand behind a bracket or a blank.
_BOUNDARY = re.compile(r"(?:(?<=[^\s(])|\n)(?=(?:select|insert|update|delete|WITH|MERGE)\b)")


def _statements(program: str, url: str, seed: int) -> Iterator[str]:
    while True:
        seed += 1
        done = subprocess.run(
            [program, f"--target={url}", "--dry-run", "--dump-all-queries", "--exclude-catalog",
             "--max-queries=300", f"--seed={seed}"],
            capture_output=True, text=True, check=False,
        )  # fmt: skip
        for text in _BOUNDARY.split(done.stdout):
            if text.lower().startswith(("select", "with")):
                yield text.strip().rstrip(";")


def _told(fault: Fault) -> None:
    print(f"{fault.command}: {' '.join(fault.statement.split())}\n    {fault.what}", flush=True)


def _summed(gone: Gone) -> None:
    slowest = ", ".join(f"{name} {s:.1f} s" for name, s in gone.slowest_s.items())
    print(
        f"{gone.statements} statements went through with {len(gone.faults)} faults; the server "
        f"itself refused {gone.refused}; the longest: {slowest}"
    )


if __name__ == "__main__":
    import sys

    main(sys.argv[1:])
