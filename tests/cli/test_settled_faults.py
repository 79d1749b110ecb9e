"""The demo's faults put right by commands alone: what helps is kept, what does not is rejected."""

from __future__ import annotations

import json
from typing import Any

import pytest

from tests.conftest import PROPOSED, only_newest
from tests.program import SENSOR, Program

GOOD = ("faster", "lighter")
# A part of the statement, the remedy's words, and an index that does not help.
INDEXES = [
    (SENSOR, "index on reading (sensor_id", "reading (quality)"),
    ("WHERE code =", "index on alert (code)", "alert (message)"),
    ("ORDER BY value DESC", "index on reading (sensor_id, value DESC)", "sensor (unit)"),
    ("(SELECT count(*) FROM alert", "index on alert (buoy_id)", "alert (message)"),
    ("r.taken_at >= $1", "index on reading (taken_at)", "sensor (unit)"),
]  # fmt: skip
# A part of the statement, and statistics that tell the planner nothing it needs.
STATISTICS = [
    ("v.started_at BETWEEN", "CREATE STATISTICS wrong ON buoy_id, code FROM alert"),
    ("r.taken_at >= $1", "CREATE STATISTICS wrong ON quality, value FROM reading"),
]
# A part of the statement, the remedy's words, and a text that means something else.
REWRITES = [
    ("reading_id, sensor_id, taken_at, value FROM", "reading_id compared with a number",
     "SELECT reading_id, sensor_id, taken_at, value FROM reading WHERE reading_id = 4711"),
    ("WHERE date_trunc", "raised_at compared with the beginning",
     "SELECT 1"),
    ("(SELECT count(*) FROM alert", "alert grouped once and joined",
     "SELECT b.buoy_id, b.name, count(*) FROM buoy b JOIN alert a USING (buoy_id) GROUP BY 1, 2"),
    ("OFFSET", "the page found by", "SELECT * FROM alert ORDER BY raised_at LIMIT 50"),
    ("GROUP BY b.buoy_id", "reading grouped before it is joined",
     "SELECT b.buoy_id, avg(r.value) FROM buoy b JOIN reading r USING (buoy_id) GROUP BY 1"),
]  # fmt: skip


def _query(program: Program, part: str) -> str:
    rows = program.json("queries")["queries"]
    words = " ".join(part.split())
    return next(row["id"] for row in rows if words in " ".join(row["text"].split()))


def _kept(
    program: Program, query: str, remedy: str, *, pairs: str = "6", pages_left: float = 0.5
) -> None:
    """A remedy is tried, found good, and settled with its migration."""
    trial = program.json("trial", query, "--remedy", remedy, "--slowest-only", "--pairs", pairs)
    (tried,) = trial["queries"]
    assert tried["same_result"] and tried["uses_change"]
    reason = ()
    if tried["verdict"] not in GOOD:
        # A machine that is too busy to tell times apart still counts pages and costs.
        assert tried["verdict"] == "undecided", (query, remedy, tried["reason"])
        assert tried["ratio"]["low"] < 1, (query, remedy, tried["ratio"])
        before, after = tried["before"], tried["after"]
        fewer = after["pages"] < pages_left * before["pages"]
        assert fewer or after["cost"] < before["cost"], (remedy, before, after)
        reason = ("--reason", "it reads fewer pages, or costs less")
    settled = program.json("settle", trial["id"], "keep", *reason)
    assert len(settled["files"]) == 2
    assert settled["files"] and all(
        (program.folder / name).stat().st_size > 50 for name in settled["files"]
    )


def _rejected(program: Program, query: str, *change: str, pairs: str = "4") -> dict[str, Any]:
    """A change that does not help is found out, is not kept without a word, and is dropped."""
    trial = program.json("trial", query, *change, "--slowest-only", "--pairs", pairs)
    (tried,) = trial["queries"]
    assert tried["verdict"] not in GOOD and tried["reason"], (query, change, tried["ratio"])
    assert "does not support keeping" in program.fails(2, "settle", trial["id"], "keep")
    settled = program.json("settle", trial["id"], "drop")
    assert settled["files"] == [] and settled["reason"]
    return dict(tried)


def _proposed(program: Program, query: str, words: str) -> str:
    """The remedy of that query with these words; all were proposed at once before."""
    found = json.loads((program.folder / PROPOSED).read_text())
    return next(
        str(remedy["id"])
        for remedy in found
        if words in remedy["summary"] and query in remedy["for_queries"]
    )


@only_newest
@pytest.mark.parametrize(("part", "words", "wrong"), INDEXES)
def test_an_index_that_helps_is_kept_and_another_one_is_not(
    proposed: Program, part: str, words: str, wrong: str
) -> None:
    query = _query(proposed, part)
    _kept(proposed, query, _proposed(proposed, query, words))
    tried = _rejected(proposed, query, "--index", wrong)
    assert not tried["uses_change"]


@only_newest
@pytest.mark.parametrize(("part", "wrong"), STATISTICS)
def test_statistics_that_help_are_kept_and_others_are_not(
    proposed: Program, part: str, wrong: str
) -> None:
    query = _query(proposed, part)
    # They change the plan by less than an index does; and a truer estimate may well be higher.
    remedy = _proposed(proposed, query, "statistics")
    _kept(proposed, query, remedy, pairs="16", pages_left=1.0)
    _rejected(proposed, query, "--apply", wrong, "--revert", "DROP STATISTICS wrong")


@only_newest
@pytest.mark.parametrize(("part", "words", "wrong"), REWRITES)
def test_a_text_that_helps_is_kept_and_one_that_means_something_else_is_not(
    proposed: Program, part: str, words: str, wrong: str
) -> None:
    query = _query(proposed, part)
    _kept(proposed, query, _proposed(proposed, query, words))
    (proposed.folder / "wrong.sql").write_text(wrong)
    tried = _rejected(proposed, query, "--rewrite", "wrong.sql", pairs="1")
    assert tried["same_result"] is False and "results differ" in tried["reason"]
