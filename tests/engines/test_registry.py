"""Engines are found by URL, and their plans by recognition; other packages may add some."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from humble_ledger.engines.registry import engine_for, plan_formats, plans_of
from humble_ledger.errors import UnreadableInput, WrongUsage
from tests.program import Program

# A package as it would be installed: a module, and the entry point that leads to it.
MODULE = """
from humble_ledger.core.plans.model import Cost, Node, Operation, Plan, Role

class Plans:
    engine = "pebble"
    most_bytes = 1000

    def looks_like(self, text):
        return text.startswith("PEBBLE PLAN")

    def document(self, text):
        return text.splitlines()[1:]

    def read(self, document, version=""):
        table, rows = document[0].split()
        root = Node(1, Operation.FULL_SCAN, "Read " + table, relation=table,
                    rows_expected=float(rows), cost=Cost(0.0, 7.0))
        return Plan("pebble", version, root, measured=False)

class Engine:
    name = "pebble"
    plans = Plans()
"""


def test_own_engines_by_scheme_and_plans_by_engine() -> None:
    for url in ("", "service=x", "host=a dbname=b", "postgres://a/b", "postgresql://a/b"):
        assert engine_for(url).name == "postgresql"
    assert plans_of("postgresql").engine == "postgresql"
    (form,) = [
        each for each in plan_formats() if each.looks_like("Seq Scan on a  (cost=0.00..1.00)")
    ]
    assert form.engine == "postgresql"
    with pytest.raises(WrongUsage, match="mystery://"):
        engine_for("mystery://a")
    with pytest.raises(UnreadableInput, match="pebble"):
        plans_of("pebble")


def test_an_engine_of_another_package_brings_its_plans(humble: Program, tmp_path: Path) -> None:
    site = tmp_path / "site"
    (site / "pebble-1.dist-info").mkdir(parents=True)
    (site / "pebble-1.dist-info" / "METADATA").write_text("Name: pebble\nVersion: 1\n")
    (site / "pebble-1.dist-info" / "entry_points.txt").write_text(
        "[humble_ledger.engines]\npebble = pebble:Engine\n"
    )
    (site / "pebble.py").write_text(MODULE)
    (humble.folder / "saved.plan").write_text("PEBBLE PLAN\nbuoy 40\n")
    humble.environment["PYTHONPATH"] = str(site)
    running = humble.start_anew("plan", "@saved.plan", "--json")
    out, err = running.communicate()
    assert running.returncode == 0, err
    assert "Read buoy" in json.dumps(json.loads(out)), out
