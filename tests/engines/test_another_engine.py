"""An engine of another package goes through the whole loop by the same workflow code."""

from __future__ import annotations

import json
import random
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from tests.program import Program


@pytest.fixture
def pond(humble: Program, tmp_path: Path) -> Program:
    """The program beside an installed package with the toy engine, and a file for it."""
    site = tmp_path / "site"
    (site / "pond-1.dist-info").mkdir(parents=True)
    (site / "pond-1.dist-info" / "METADATA").write_text("Name: pond\nVersion: 1\n")
    (site / "pond-1.dist-info" / "entry_points.txt").write_text(
        "[humble_ledger.engines]\npond = pond:PondEngine\n"
    )
    shutil.copy(Path(__file__).with_name("pond.py"), site / "pond.py")
    humble.environment["PYTHONPATH"] = str(site)
    draw = random.Random(1)
    with closing(sqlite3.connect(humble.folder / "skerry.db")) as connection:
        connection.execute("CREATE TABLE buoy_visit (id integer, keeper_id integer, remark text)")
        connection.executemany(
            "INSERT INTO buoy_visit VALUES (?, ?, ?)",
            ((n, draw.randrange(2000), f"remark {n}") for n in range(20_000)),
        )
        connection.commit()
    return humble


def said(program: Program, *arguments: str) -> Any:
    running = program.start_anew(*arguments, "--json")
    out, err = running.communicate()
    assert running.returncode == 0, err
    return json.loads(out)


def test_the_whole_loop_on_an_engine_from_outside(pond: Program) -> None:
    sql = "SELECT id, remark FROM buoy_visit WHERE keeper_id = 7"
    (pond.folder / "app.sql").write_text(sql + ";\n")
    url = f"pond://{pond.folder / 'skerry.db'}"
    assert said(pond, "init", url, "--role", "scratch")["engine"]["name"] == "pond"
    assert said(pond, "capture", "script", "app.sql")["statements"]
    plan = said(pond, "plan", "q1", "--measure")
    assert plan["engine"]["name"] == "pond"
    (symptom, *_) = said(pond, "diagnose", "q1")["symptoms"]
    assert (symptom["name"], symptom["cause"]["name"]) == ("selective-full-scan", "no-index")
    (remedy, *_) = said(pond, "propose", "q1")["remedies"]
    assert remedy["type"] == "index" and "keeper_id" in remedy["summary"]
    trial = said(pond, "trial", "q1", "--remedy", remedy["id"])
    predicted = remedy["queries"][0]["cost_predicted"]
    query = trial["queries"][0]
    assert query["after"]["cost"] == pytest.approx(predicted), "its formula is its planner's own"
    assert query["uses_change"] and query["same_result"] and trial["left_behind"] == []
    # Reading 20,000 rows takes some hundred times as long as reading ten by an index.
    assert trial["verdict"] == "faster", trial
