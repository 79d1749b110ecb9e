"""The choice for the whole workload, and the first remedy for each of the planted faults."""

from __future__ import annotations

import psycopg

from humble_ledger.workflow.proposing.everything import propose
from humble_ledger.workflow.workspace import Workspace
from tests.conftest import Server, only_newest
from tests.program import Program

# A part of each statement, and what an expert would try first.
FIRST = {
    "SELECT taken_at, value, quality FROM reading": "index on reading (sensor_id, taken_at)",
    "FROM alert\nWHERE date_trunc": "raised_at compared with the beginning and the end of the day",
    "SELECT reading_id, sensor_id, taken_at, value FROM": "reading_id compared with a number",
    "WHERE code =": "index on alert (code)",
    "a.kind = $1 AND a.cause": "index on alert (cause, crew, kind",
    "(SELECT count(*) FROM alert": "alert grouped once and joined",
    "SELECT DISTINCT k.keeper_id": "EXISTS in place of joining visit and alert",
    "s.buoy_id = b.buoy_id AND s.kind": "a question: was b.region_id = r.region_id meant",
    "OFFSET": "the page found by raised_at and alert_id",
    "GROUP BY b.buoy_id": "reading grouped before it is joined",
    "ORDER BY value DESC": "index on reading (sensor_id, value DESC)",
    "v.minutes FROM visit": "index on visit (keeper_id)",
}


@only_newest
def test_the_first_remedy_is_the_one_an_expert_would_try(proposed: Program) -> None:
    texts = {q["id"]: " ".join(q["text"].split()) for q in proposed.json("queries")["queries"]}
    wrong = []
    # By the Python interface, as a dozen starts of the program would take half a minute.
    with Workspace.find(proposed.folder) as workspace:
        for part, wanted in FIRST.items():
            words = " ".join(part.split())
            query = next((q for q, text in texts.items() if words in text), None)
            assert query is not None, part
            found = [e.remedy.summary for e in propose(workspace, [query]).remedies]
            if not found or wanted not in found[0]:
                wrong.append((part, wanted, found))
    assert not wrong


@only_newest
def test_a_choice_under_a_budget_can_be_defended_line_by_line(
    begun: Program, server: Server
) -> None:
    some = [f"q{number}" for number in range(1, 13)]
    choice = begun.json("propose", *some, "--budget", "100MB")
    assert choice["size_bytes"] <= 100e6
    assert choice["at_least_share"] > 0.9 and choice["saved_ms"] > 0.3 * choice["captured_ms"]
    by_id = {r["id"]: r for r in choice["remedies"]}
    for each in choice["picked"]:
        assert each["adds_ms"] > 0 and each["queries"]
        assert by_id[each["remedy"]]["write_overhead"]["grows_by_share"] > 0
    assert choice["left_out"] and all(each["why"] for each in choice["left_out"])
    helped = {e["id"] for e in choice["effects"] if e["indexes"]}
    assert helped == {q for each in choice["picked"] for q in each["queries"]}
    sizes = [point["size_bytes"] for point in choice["curve"]]
    assert sizes == sorted(sizes)
    # What a statement written otherwise does for nothing takes no room.
    assert not any("numeric" in each["index"] for each in choice["picked"])
    few = [each["id"] for each in choice["effects"][:6]]
    told = begun.ok("propose", *few, "--budget", "1MB").out
    assert "why not" in told and "the budget ends here" in told and "without any index" in told
    with psycopg.connect(server.url) as connection:  # rolled back when left
        script = begun.ok("propose", *few, "--budget", "100MB", "--sql").out
        connection.execute(script.encode())
        connection.rollback()


@only_newest
def test_budgets_of_other_kinds_hold_too(begun: Program, server: Server) -> None:
    some = ("q1", "q4", "q6", "q7", "q11", "q12", "q18")
    few = begun.json("propose", *some, "--budget", "3", "--budget", "20MB")
    assert len(few["picked"]) == 3 and few["size_bytes"] <= 20e6
    light = begun.json("propose", *some, "--budget", "10%")
    assert light["picked"] and light["extra_writes_share"] <= 0.1
    # Without captured times nothing is told in milliseconds.
    unseen = "SELECT alert_id FROM alert WHERE code = 'E-1417' AND message <> ''"
    guessed = begun.json("propose", unseen, "--budget", "20MB")
    assert guessed["weights"] == "cost" and guessed["saved_ms"] is None
    assert guessed["picked"][0]["adds_ms"] is None and guessed["picked"][0]["adds_share"] > 0.5
    assert guessed["plans_asked"] > 2
    # Nor beside queries of which some time was: else what was named would count nothing.
    beside = begun.json("propose", "q1", unseen, "--budget", "200MB")
    assert beside["weights"] == "cost"
    assert any("alert" in each["index"] for each in beside["picked"])
    # A query that runs often, and one that takes long, count the same when that is asked for.
    alike = begun.json(
        "propose", *some, "--budget", "100MB", "--weigh", "equally", "--least-gain", "10%"
    )
    assert alike["weights"] == "equally"
    assert all(each["adds_share"] >= 0.1 for each in alike["picked"])
    assert "No time was captured" in begun.fails(
        2, "propose", unseen, "--budget", "20MB", "--weigh", "time"
    )
    assert "goes with --budget" in begun.fails(2, "propose", "--weigh", "calls")
    assert "is not a budget" in begun.fails(2, "propose", "--budget", "lots")
    assert "do not go with it" in begun.fails(2, "propose", "--budget", "5", "--top", "3")
