"""Replays on real servers: what is sent, the step a change makes, and what is taken back."""

from __future__ import annotations

import json
import signal
import time

import pytest

from tests.cli.test_interruption import wait_for
from tests.conftest import PROPOSED, Server, only_newest, only_oldest
from tests.program import PATIENCE_S, SENSOR, Program

LEFT = """SELECT (SELECT count(*) FROM pg_class), (SELECT count(*) FROM pg_statistic_ext),
    (SELECT count(*) FROM pg_stat_activity WHERE application_name LIKE 'humble-ledger y%')"""


@only_newest
def test_the_step_of_a_change_made_midway_is_seen_and_taken_back(
    begun: Program, server: Server
) -> None:
    before = server.fetch(LEFT)
    query = begun.query_with(SENSOR)
    found = begun.json(
        "replay", query, "--clients", "2", "--seconds", "5", "--change-at", "2",
        "--index", "reading (sensor_id, taken_at)", "--to", "step.png",
    )  # fmt: skip
    assert server.fetch(LEFT) == before and found["left_behind"] == []
    old, _, new = found["phases"]
    assert new["runs_per_s"] > 5 * old["runs_per_s"]
    assert new["queries"][query]["p50_ms"] < old["queries"][query]["p50_ms"] / 5
    made = found["change_done_s"] - found["change_begun_s"]
    assert found["change_begun_s"] >= 2 and made > 0.1
    both = found["seconds"] - made
    assert 4.99 < both < 7, "the time is that before and after the change"
    sent = sum(second["all"]["runs"] for second in found["by_second"])
    assert sent == sum(phase["all"]["runs"] for phase in found["phases"])
    assert (begun.folder / "step.png").stat().st_size > 5_000
    told = begun.ok("show", found["id"]).out
    assert "with the change" in told and query in told and "2 clients" in told
    assert "nothing to tidy" in begun.ok("tidy").out
    assert "replay done" in begun.ok("history").out


@only_oldest
def test_what_was_captured_is_sent_at_its_moments_and_as_often(
    begun: Program, server: Server
) -> None:
    found = begun.json("replay", "--as-captured", "--speed", "4", "--seconds", "60",
                       "--clients", "4")  # fmt: skip
    (whole,) = found["phases"]
    captured = {row["id"]: row["calls"] for row in begun.json("queries")["queries"]}
    assert {query: row["runs"] for query, row in whole["queries"].items()} == captured
    assert found["errors"] == {} and found["late_ms"] is not None
    assert found["seconds"] < 30, "it ends when everything was sent"
    mixed = begun.json("replay", "--seconds", "3", "--seed", "7")["phases"][0]["queries"]
    assert max(mixed, key=lambda query: mixed[query]["runs"]) == max(captured, key=captured.get)


@only_newest
def test_errors_are_counted_and_only_reads_are_sent(begun: Program, server: Server) -> None:
    (begun.folder / "day.sql").write_text(
        "SELECT 1 / (buoy_id - 5) FROM buoy WHERE buoy_id = 5;\n"
        "UPDATE visit SET minutes = minutes + 1 WHERE visit_id = 3;\n"
    )
    begun.ok("capture", "script", "day.sql")
    bad, writes = (begun.query_with(part) for part in ("FROM buoy WHERE buoy_id =", "UPDATE visit"))
    found = begun.json("replay", bad, "--seconds", "1")
    (said,) = found["errors"]
    assert "division by zero" in said
    assert found["errors"][said] == found["phases"][0]["all"]["errors"] > 10
    assert "only reads" in begun.fails(2, "replay", writes)
    before = server.fetch("SELECT sum(minutes) FROM visit")
    sent = begun.json("replay", writes, "--seconds", "1", "--allow-writes", "--clients", "1")
    assert sent["phases"][0]["all"]["runs"] > 10 and sent["errors"] == {}
    assert server.fetch("SELECT sum(minutes) FROM visit") == before
    file = begun.folder / "humble.toml"
    file.write_text(file.read_text().replace('"scratch"', '"production"'))
    assert "load" in begun.fails(5, "replay", "--seconds", "1")
    assert "On postgresql" in begun.run("replay", "--seconds", "1", "--on-production").err


@only_newest
def test_a_replay_that_was_killed_is_tidied_and_one_that_was_stopped_is_kept(
    begun: Program, server: Server
) -> None:
    before = server.fetch(LEFT)
    apply = ("--apply", "CREATE STATISTICS by_hand ON kind, cause FROM alert",
             "--revert", "DROP STATISTICS by_hand")  # fmt: skip
    made = "SELECT count(*) FROM pg_statistic_ext WHERE stxname = 'by_hand'"
    killed = begun.start("replay", "--seconds", "60", "--change-at", "0.5", *apply)
    wait_for(server, made, [(1,)])
    killed.kill()
    killed.wait()
    assert "would run  DROP STATISTICS by_hand" in begun.ok("tidy", "--look").out
    assert "ran  DROP STATISTICS by_hand" in begun.ok("tidy").out
    wait_for(server, LEFT, before)
    assert "nothing to tidy" in begun.ok("tidy").out
    stopped = begun.start("replay", "--seconds", "60", "--change-at", "0.5", "--json", *apply)
    wait_for(server, made, [(1,)])
    time.sleep(1.5)
    stopped.send_signal(signal.SIGINT)
    out, err = stopped.communicate(timeout=PATIENCE_S)
    assert stopped.returncode == 0 and "Traceback" not in err, err
    assert '"stopped_early":true' in out
    assert '"name":"with the change"' in out, "the change was made before Ctrl-C came"
    wait_for(server, LEFT, before)


@only_newest
@pytest.mark.parametrize(
    ("apply", "revert"),
    [
        (["CREATE TABLE kept (n int)"], ["DROP TABLE kept"]),
        (["CREATE TABLE made (n int)", "ALTER TABLE kept ADD COLUMN n int"],
         ["ALTER TABLE kept DROP COLUMN n", "DROP TABLE made"]),
    ],
    ids=["one", "the second of two"],
)  # fmt: skip
def test_what_was_there_before_is_not_undone_with_a_change_that_failed(
    begun: Program, server: Server, apply: list[str], revert: list[str]
) -> None:
    server.do("CREATE TABLE kept AS SELECT 7 AS n")
    before = server.fetch(LEFT)
    words = [word for text in apply for word in ("--apply", text)]
    words += [word for text in revert for word in ("--revert", text)]
    try:
        told = begun.fails(4, "replay", "--seconds", "3", "--change-at", "0.5", *words)
        assert "already exists" in told
        assert server.fetch("SELECT n FROM kept") == [(7,)]
        assert server.fetch(LEFT) == before
        assert "nothing to tidy" in begun.ok("tidy").out
    finally:
        server.do("DROP TABLE kept; DROP TABLE IF EXISTS made")


@only_newest
def test_what_cannot_be_replayed_is_told(proposed: Program, server: Server) -> None:
    begun = proposed
    assert "no query q99" in begun.fails(2, "replay", "q99")
    assert "none was named" in begun.fails(2, "replay", "--change-at", "1")
    late = ("replay", "--seconds", "2", "--change-at", "3", "--set", "work_mem=8MB")
    assert "is over" in begun.fails(2, *late)
    found = json.loads((begun.folder / PROPOSED).read_text())
    removal = next(each["id"] for each in found if each["type"] == "removal")
    assert "humble trial" in begun.fails(2, "replay", "--remedy", removal)
    set_ = begun.json("replay", "--seconds", "2", "--change-at", "1", "--set", "work_mem=8MB")
    assert set_["phases"][2]["all"]["runs"] > 0
    wrong = ("--apply", "ALTER TABLE buoy ADD COLUMN name text", "--revert", "SELECT 1")
    told = begun.fails(4, "replay", "--seconds", "5", "--change-at", "0.5", *wrong)
    assert "already exists" in told
    assert "broken-off" in begun.ok("history").out
