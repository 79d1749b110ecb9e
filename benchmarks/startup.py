"""Starting: the program against the bare import of its command-line packages (wanted: ≤ 2×)."""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from pathlib import Path

HUMBLE = str(Path(sys.executable).parent / "humble")
TIMES = 15
COMMANDS = {
    'python -c "import typer, rich"': [sys.executable, "-c", "import typer, rich"],
    "humble --version": [HUMBLE, "--version"],
    "humble --help": [HUMBLE, "--help"],
}


def once(command: list[str]) -> float:
    """Milliseconds of one run as a whole process."""
    start = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, check=True)
    return (time.perf_counter() - start) * 1000.0


def main() -> None:
    """Run the commands in turns and print medians and ratios to the first."""
    for command in COMMANDS.values():
        once(command)
    runs: dict[str, list[float]] = {name: [] for name in COMMANDS}
    for _ in range(TIMES):
        for name, command in COMMANDS.items():
            runs[name].append(once(command))
    base = statistics.median(next(iter(runs.values())))
    for name, found in runs.items():
        median = statistics.median(found)
        print(f"  {name:<34} {median:7.0f} ms   {median / base:5.2f}×")
