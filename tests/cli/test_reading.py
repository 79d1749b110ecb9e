"""Reading plans through the program: forms, steps, comparison, glossary, saved plans."""

from __future__ import annotations

import re

import pytest

from tests.conftest import Server, only_newest
from tests.engines.test_plan_text import MEASURED_TEXT
from tests.program import SENSOR, Program


@only_newest
def test_a_plan_in_each_form(begun: Program, server: Server) -> None:
    query = begun.query_with(SENSOR)
    begun.ok("plan", query, "--measure")
    story = " ".join(begun.ok("plan", "p1", "--as", "steps").out.split())
    assert re.search(r"1\. Read about [45]\d\d,\d{3} rows of reading, and keep the", story)
    # Which step takes the most hangs on what else the machine does.
    assert re.search(r"In all .*, step \d of the plan, takes \d+ % of it", story), story
    table = begun.ok("plan", "p1", "--as", "table").out
    assert "self ms" in table and "Parallel Seq Scan" in table
    chosen = begun.ok("plan", "p1", "--columns", "step,rows_off,condition").out
    assert "rows off" in chosen and "self ms" not in chosen
    assert "rows off" in begun.ok("plan", "p1", "--as", "table").out, "columns are remembered"
    begun.ok("plan", "p1", "--columns", "default")
    assert "self ms" in begun.ok("plan", "p1", "--as", "table").out
    found = begun.ok("plan", "p1", "--find", "SENSOR_ID").out
    assert "1 of 3 steps mention" in found
    focus = " ".join(begun.ok("plan", "p1", "--focus", "3").out.split())
    assert "summed over processes (measured)" in focus and "Look out:" in focus
    assert "No step" in begun.ok("plan", "p1", "--find", "nothing like it").out


@only_newest
@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["--as", "poem"], "tree, table, steps"),
        (["--columns", "self_ms,colour"], "colour"),
        (["--focus", "99"], "1 to 1"),
    ],
)
def test_forms_that_do_not_exist(begun: Program, arguments: list[str], words: str) -> None:
    assert words in begun.fails(2, "plan", "SELECT 1", *arguments)


def test_a_saved_plan_needs_no_server_and_no_ledger(humble: Program) -> None:
    (humble.folder / "saved.txt").write_text(MEASURED_TEXT)
    for what in ("saved.txt", "@saved.txt"):
        assert "execution 1.50 ms (measured)" in humble.ok("plan", what).out
    piped = humble.ok("plan", "-", stdin=MEASURED_TEXT)
    assert "never ran" in piped.out and "filter: (name ~~" in piped.out
    broken = MEASURED_TEXT.replace("Planning:", "Planning without end")
    assert "Line 13" in humble.fails(4, "plan", "-", stdin=broken)


@only_newest
def test_plans_are_compared(begun: Program) -> None:
    query = begun.query_with(SENSOR)
    assert "does not name two plans" in begun.fails(2, "compare", query)
    begun.ok("trial", query, "--index", "reading (sensor_id, taken_at)", "--pairs", "6")
    found = begun.json("compare", "t1")
    assert found["cost"]["ratio"] < 0.2 and not found["same_shape"]
    assert {step["change"] for step in found["steps"]} >= {"replaced"}
    assert "replaced" in begun.ok("compare", "t1").out
    begun.ok("plan", query)
    begun.ok("plan", query)
    assert begun.json("compare", query)["same_shape"]
    other = begun.json("compare", "SELECT count(*) FROM buoy", "SELECT count(*) FROM visit")
    assert {"gone", "new"} <= {step["change"] for step in other["steps"]}


def test_the_glossary_explains_what_a_plan_shows(humble: Program) -> None:
    assert "first page to its last" in humble.ok("glossary", "Seq Scan").out
    assert "hash_join" in humble.ok("glossary").out
    assert humble.json("glossary", "self time")["terms"][0]["about"] == "figure"
    assert 'no "xyzzy"' in humble.fails(2, "glossary", "xyzzy")


@only_newest
def test_a_plan_as_a_figure(begun: Program, server: Server) -> None:
    query = begun.query_with(SENSOR)
    assert "plan-p1.svg (3 steps)" in begun.ok("plan", query, "--measure", "--as", "figure").out
    drawn = (begun.folder / "plan-p1.svg").read_text()
    assert "Parallel Seq Scan" in drawn and "rows (measured)" in drawn
    begun.ok("plan", "p1", "--as", "figure", "--flow", "down", "--to", "p.png")
    assert (begun.folder / "p.png").read_bytes().startswith(b"\x89PNG")
    assert ".svg" in begun.fails(2, "plan", "p1", "--as", "figure", "--to", "p.doc")
    assert "across, down" in begun.fails(2, "plan", "p1", "--as", "figure", "--flow", "up")
    missing = begun.fails(4, "plan", "p1", "--as", "figure", "--to", "no/such/p.svg")
    assert "cannot be written" in missing


@only_newest
def test_what_surrounds_a_plan(begun: Program, server: Server) -> None:
    query = begun.query_with(SENSOR)
    shown = " ".join(begun.ok("plan", query, "--measure", "--as", "tables").out.split())
    assert "of work in" in shown and "3 processes (measured)" in shown
    assert "reading_buoy_taken (buoy_id, taken_at): searched behind its first key" in shown
    assert "sensor_id: filter" in shown and "gathered" in shown
    assert "granted to each sort (work_mem)" in shown
    found = begun.json("plan", "p1", "--as", "tables")
    (table,) = found["tables"]
    assert table["table_rows"] == server.fetch("SELECT count(*) FROM reading")[0][0]
    assert {i["service"] for i in table["indexes"]} == {
        "searched behind its first key",
        "no condition on it",
    }
    forgotten = begun.query_with("FROM sensor AS s, buoy AS b")
    assert "untied" in begun.ok("plan", forgotten, "--as", "tables").out
    (begun.folder / "saved.txt").write_text(MEASURED_TEXT)
    assert "unknown without a server" in begun.ok("plan", "saved.txt", "--as", "tables").out


def test_values_for_parameters_come_from_the_statistics(begun: Program, server: Server) -> None:
    sql = "SELECT * FROM reading WHERE buoy_id = $1 AND taken_at >= $2 LIMIT $3"
    generic = " ".join(begun.ok("plan", sql).out.split())
    assert "the plan for no value in particular (generic)" in generic
    assert "--values typical" in begun.fails(2, "plan", sql, "--measure")
    seen = {}
    for frequency in ("common", "typical", "rare"):
        shown = " ".join(begun.ok("plan", sql, "--measure", "--values", frequency).out.split())
        assert "of buoy_id" in shown and "of the rows by taken_at" in shown
        value = shown.split("$1 = ")[1].split(",")[0]
        (count,) = server.fetch(f"SELECT count(*) FROM reading WHERE buoy_id = {value}")[0]
        seen[frequency] = int(str(count))
    assert seen["common"] > 5 * seen["typical"] and seen["common"] > 5 * seen["rare"]
    assert "no parameters" in begun.fails(2, "plan", "SELECT 1", "--values", "rare")
    assert "common, typical, rare" in begun.fails(2, "plan", sql, "--values", "odd")
    server.do("CREATE TABLE IF NOT EXISTS unknown_yet (n int)")
    unknown = begun.fails(
        2, "plan", "SELECT * FROM unknown_yet WHERE n = $1", "--values", "typical"
    )
    assert "ANALYZE unknown_yet" in unknown
    server.do("DROP TABLE unknown_yet")


@only_newest
def test_a_query_is_compared_between_captures_and_targets(begun: Program, server: Server) -> None:
    query = begun.query_with(SENSOR)
    assert "No plan of" in begun.fails(2, "compare", query, "--between", "k1", "k1")
    begun.ok("plan", query)
    begun.ok("capture", "log", str(server.log), "--again")
    begun.ok("plan", query, "--measure")
    found = begun.json("compare", query, "--between", "k1", "k2")
    assert (found["before"], found["after"]) == ("p1", "p2")
    assert found["calls"]["before"] == found["calls"]["after"] > 0
    assert "mean ms in the capture" in begun.ok("compare", query, "--between", "k2", "k1").out
    both = begun.ok("compare", query, "--elsewhere", server.url).out
    assert "The same steps in the same places" in both
    assert "exclude" in begun.fails(2, "compare", "p1", "p2", "--elsewhere", server.url)
    assert "not the id of a query" in begun.fails(2, "compare", "p1", "--between", "k1", "k2")
