"""Reading large plans: one of 1,000 steps in its parts, one of 50 MB by the whole program."""

from __future__ import annotations

import io
import json
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from rich.console import Console

from benchmarks.log_reading import HUMBLE, machine_ms, memory_of
from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.plans.arithmetic import accounts
from humble_ledger.core.plans.narration import narrate
from humble_ledger.core.plans.tables import table_accounts
from humble_ledger.engines.postgresql.plans.reader import read_plan
from humble_ledger.engines.postgresql.plans.saved import document_of
from humble_ledger.views.figures.plan_figure import draw_plan
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.plans import plan_view

STEPS = 1_000
MEGABYTES = 50
_JOINS_DEEP = 20


def document(steps: int, padding: int = 0) -> list[dict[str, Any]]:
    """A plan of unions of deep trees of joins, with conditions, pages and times.

    ``padding`` letters in each condition make it as long as lists of values do.
    """
    left = steps
    branches = []
    number = 0
    while left > 0:
        tree, used = _tree(min(left, 3 * _JOINS_DEEP), number, padding)
        branches.append({**tree, "Parent Relationship": "Member"})
        left, number = left - used, number + 1
    return [
        {
            "Plan": {**_step("Append", 10_000.0), "Plans": branches},
            "Planning Time": 9.5,
            "Execution Time": 10_001.0,
        }
    ]


def _step(kind: str, ms: float, **fields: Any) -> dict[str, Any]:
    return {
        "Node Type": kind, "Startup Cost": 0.0, "Total Cost": ms * 3, "Plan Rows": 1000,
        "Plan Width": 44, "Actual Startup Time": 0.01, "Actual Total Time": ms,
        "Actual Rows": 900.0, "Actual Loops": 1, "Shared Hit Blocks": int(ms),
        "Shared Read Blocks": 3, "Temp Read Blocks": 0, "Temp Written Blocks": 0, **fields,
    }  # fmt: skip


def _tree(steps: int, number: int, padding: int) -> tuple[dict[str, Any], int]:
    tree = _scan(f"a{number}_0", 1.0, padding)
    used = 1
    while used + 3 <= steps:
        alias, below = f"a{number}_{used}", tree["Actual Total Time"]
        inner = _step("Hash", 1.2, Plans=[_scan(alias, 1.0, padding)])
        tree = _step(
            "Hash Join", below + 2.5,
            **{"Join Type": "Inner", "Hash Cond": f"(a{number}_0.buoy_id = {alias}.buoy_id)",
               "Plans": [{**tree, "Parent Relationship": "Outer"},
                         {**inner, "Parent Relationship": "Inner"}]},
        )  # fmt: skip
        used += 3
    return tree, used


def _scan(alias: str, ms: float, padding: int) -> dict[str, Any]:
    condition = f"(({alias}.kind = 'ice'::text) AND ({alias}.message <> '{'x' * padding}'::text))"
    return _step(
        "Seq Scan", ms,
        **{"Relation Name": "alert", "Schema": "public", "Alias": alias, "Filter": condition,
           "Rows Removed by Filter": 100, "Output": [f"{alias}.buoy_id", f"{alias}.message"]},
    )  # fmt: skip


def _timed(name: str, work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    seconds = time.perf_counter() - start
    print(f"  {name:34} {seconds * 1000:7,.0f} ms")
    return seconds


def parts() -> None:
    """What each part of reading 1,000 steps takes."""
    text = json.dumps(document(STEPS))
    plan = read_plan(document_of(text), "18")
    entry = PlanEntry("p1", "", None, "", (), "file", plan)
    console = Console(width=120, file=io.StringIO())
    steps = sum(1 for _ in plan.nodes())
    print(f"A plan of {steps:,} steps ({len(text) / 1e6:.1f} MB), machine {machine_ms():.0f} ms:")
    whole = _timed("read", lambda: read_plan(document_of(text), "18"))
    whole += _timed("analysed (self time, cost, pages)", lambda: accounts(plan))
    whole += _timed("drawn as tree", lambda: console.print(plan_view(entry, Numbers())))
    print(f"  {'together':34} {whole * 1000:7,.0f} ms (500 wanted)")
    _timed("told in sentences", lambda: narrate(plan, str))
    _timed("its tables", lambda: table_accounts(plan))
    with tempfile.TemporaryDirectory() as folder:
        _timed("as figure (SVG)", lambda: draw_plan(entry, Numbers(), Path(folder) / "p.svg"))


def large() -> None:
    """The whole program on a plan of 50 MB: its time and memory."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "large.json"
        path.write_text(json.dumps(document(STEPS * 3, MEGABYTES * 1_000_000 // STEPS)))
        start, most = time.perf_counter(), 0.0
        with subprocess.Popen(
            [HUMBLE, "plan", str(path), "--as", "table"], cwd=folder, stdout=subprocess.DEVNULL
        ) as program:
            while program.poll() is None:
                most = max(most, memory_of(program.pid))
                time.sleep(0.02)
        assert program.returncode == 0
        seconds = time.perf_counter() - start
        print(
            f"A plan of {path.stat().st_size / 1e6:.0f} MB, the whole program: {seconds:.1f} s, "
            f"{most:.0f} MB of memory (300 wanted)"
        )


def main() -> None:
    """Print all of it."""
    parts()
    large()


if __name__ == "__main__":
    main()
