"""Trials of every kind of change: what is written by hand, removals, time-outs, the workload."""

from __future__ import annotations

import pytest

from tests.conftest import Server, only_newest, only_oldest
from tests.program import Program

LEFT = """SELECT (SELECT count(*) FROM pg_class), (SELECT count(*) FROM pg_index WHERE indisvalid),
    (SELECT count(*) FROM pg_db_role_setting)"""
# A statement, a new text that is subtly wrong, and what is said of it.
WRONG = [
    ("SELECT keeper_id FROM keeper WHERE keeper_id NOT IN "
     "(SELECT CASE WHEN visit_id > 1 THEN keeper_id END FROM visit)",
     "SELECT keeper_id FROM keeper k WHERE NOT EXISTS (SELECT 1 FROM visit v WHERE visit_id > 1 "
     "AND v.keeper_id = k.keeper_id AND k.keeper_id > 100)", "number of rows differs"),
    ("SELECT buoy_id FROM buoy WHERE buoy_id < 5",
     "SELECT b.buoy_id FROM buoy b JOIN sensor s USING (buoy_id) WHERE buoy_id < 5",
     "a different number of times"),
    ("SELECT alert_id, kind FROM alert ORDER BY kind LIMIT 20",
     "SELECT alert_id, kind FROM alert ORDER BY kind, alert_id DESC LIMIT 20",
     "ties in the order asked for"),
    ("SELECT count(*) FROM alert WHERE raised_at >= '2026-03-14 00:00+00'",
     "SELECT count(*) FROM alert WHERE raised_at >= '2026-03-14 00:00-05'", "1 of 1 rows differ"),
    ("SELECT code FROM alert WHERE code < 'E-2' AND alert_id < 900",
     "SELECT code FROM alert WHERE lower(code) < 'E-2' AND alert_id < 900", "differ"),
    ("SELECT sum(value) FROM reading WHERE buoy_id = 61",
     "SELECT sum(value::real) FROM reading WHERE buoy_id = 61", "1 of 1 rows differ"),
    ("SELECT buoy_id, name FROM buoy ORDER BY name",
     "SELECT buoy_id, name FROM buoy ORDER BY 2 DESC", "another order than asked for"),
]  # fmt: skip


def _write(program: Program, text: str) -> str:
    (program.folder / "new.sql").write_text(text)
    return "new.sql"


@only_newest
def test_subtly_wrong_texts_are_caught_and_told(begun: Program, server: Server) -> None:
    for old, new, words in WRONG:
        trial = begun.json("trial", old, "--rewrite", _write(begun, new), "--pairs", "2")
        (tried,) = trial["queries"]
        assert tried["same_result"] is False and tried["verdict"] == "undecided", new
        assert words in tried["result_note"], (new, tried["result_note"])


@only_oldest
def test_a_right_text_is_faster_and_settles(begun: Program, server: Server) -> None:
    old = "SELECT count(*) FROM reading WHERE reading_id + 0 = 7"
    new = _write(begun, "SELECT count(*) FROM reading WHERE reading_id = 7;\n")
    trial = begun.json("trial", old, "--rewrite", new, "--pairs", "6", "--require", "faster")
    files = begun.json("settle", trial["id"], "keep")["files"]
    texts = [(begun.folder / name).read_text() for name in files]
    assert any("reading_id = 7;" in text for text in texts)
    assert "one query" in begun.fails(2, "trial", "q1", "q2", "--rewrite", new)
    assert "cannot be read" in begun.fails(4, "trial", "q1", "--rewrite", "nowhere.sql")


@only_newest
def test_a_removal_is_tried_without_anybody_waiting(begun: Program, server: Server) -> None:
    found = begun.json("propose", "--type", "removal")["remedies"]
    (twice,) = [r for r in found if "reading_buoy of" in r["summary"]]
    before = server.fetch(LEFT)
    sql = "SELECT max(value) FROM reading WHERE buoy_id = 200"
    trial = begun.json("trial", sql, "--remedy", twice["id"], "--pairs", "6")
    assert server.fetch(LEFT) == before and trial["left_behind"] == []
    (tried,) = trial["queries"]
    assert tried["same_result"] and tried["uses_change"]
    plans = [str(begun.json("show", tried[side]["plan"])) for side in ("before", "after")]
    assert "'reading_buoy'" in plans[0] and "'reading_buoy'" not in plans[1]
    if trial["verdict"] != "no-difference":  # so few pairs may not tell that it hurts nobody
        assert "does not support keeping" in begun.fails(2, "settle", trial["id"], "keep")
    reason = ("--reason", "another one serves")
    files = begun.json("settle", trial["id"], "keep", *reason)["files"]
    texts = "\n".join((begun.folder / name).read_text() for name in files)
    assert "DROP INDEX CONCURRENTLY reading_buoy;" in texts
    assert "CREATE INDEX CONCURRENTLY reading_buoy ON" in texts


@only_newest
def test_changes_written_by_hand_are_rolled_back(begun: Program, server: Server) -> None:
    before = server.fetch(LEFT)
    trial = begun.json(
        "trial", "SELECT alert_id FROM alert WHERE code = 'E-1417'",
        "--apply", "CREATE INDEX by_hand ON alert (code)", "--revert", "DROP INDEX by_hand",
        "--set", "enable_seqscan=off", "--pairs", "6",
    )  # fmt: skip
    assert trial["queries"][0]["verdict"] == "faster"
    assert len(trial["remedies"]) == 2
    assert server.fetch(LEFT) == before
    sql = ("trial", "SELECT 1 FROM alert WHERE code = 'x'")
    for ending in ("COMMIT", "ROLLBACK", "CREATE INDEX CONCURRENTLY i ON alert (code)", "VACUUM"):
        assert "transaction" in begun.fails(5, *sql, "--apply", ending, "--revert", "SELECT 1")
    data = ("--apply", "DELETE FROM alert", "--revert", "SELECT 1")
    assert "changes data" in begun.fails(5, *sql, *data)
    two = "CREATE INDEX a ON alert (code); COMMIT"
    begun.fails(4, *sql, "--apply", two, "--revert", "DROP INDEX a")
    assert "both its ways" in begun.fails(2, *sql, "--apply", "SELECT 1")
    assert "not a setting" in begun.fails(2, *sql, "--set", "nonsense")
    assert "by_hand" in begun.fails(
        4, *sql, "--apply", "DROP INDEX by_hand", "--revert", "SELECT 1"
    )
    assert server.fetch(LEFT) == before


@only_oldest
def test_a_query_that_never_ends_is_a_result(begun: Program, server: Server) -> None:
    query = begun.query_with("(SELECT count(*) FROM alert")
    index = ("--index", "alert (buoy_id, status)", "--pairs", "6", "--json")
    for limit in ("0.1", "0.2", "0.4"):  # on a slow machine no statement of ours ends in the first
        done = begun.run("trial", query, *index, "--timeout", limit)
        if done.code == 0:
            break
    assert done.code == 0, done.err + done.out
    trial = done.json
    (tried,) = trial["queries"]
    assert tried["verdict"] == "faster" and tried["same_result"] is None
    told = begun.ok("show", trial["id"]).out
    assert f"more than {float(limit) * 1000:.0f} ms" in told
    assert f"did not end within {limit} s" in told
    assert "not compared" in told


@only_newest
def test_the_whole_workload_is_checked_and_predictions_are_held_against_it(
    begun: Program, server: Server
) -> None:
    assert "No trial has checked" in begun.ok("history", "--predictions").out
    code = begun.query_with("v.minutes FROM visit")
    remedy = begun.json("propose", code, "--type", "index")["remedies"][0]["id"]
    trial = begun.json("trial", code, "--remedy", remedy, "--workload", "--pairs", "2")
    tried = [query["query"] if "query" in query else query["id"] for query in trial["queries"]]
    assert len(tried) >= 3 and tried[0] == code
    texts = {q["id"]: q["text"] for q in begun.json("queries")["queries"]}
    assert tried and all("visit" in texts[query] for query in tried)
    told = begun.ok("show", trial["id"]).out
    assert told.count("\n") < 60 and "times measured" in told
    checked = begun.json("history", "--predictions")
    rows = {p["query"]: p for p in [*checked["predictions"], *checked["unchanged"]]}
    assert set(rows) == set(tried), "each query of the trial had its prediction"
    assert checked["predictions"] and all(
        p["cost_found"] < p["cost_before"] for p in checked["predictions"]
    )
    row = rows[code]
    assert row["ratio"] == pytest.approx(1.0, abs=0.1) and row["trial"] == trial["id"]
    assert row["cost_before"] > row["cost_found"]
    begun.ok("history", "--predictions", "--to", "predicted.svg")
    assert (begun.folder / "predicted.svg").stat().st_size > 1_000
    assert "cannot be drawn" in begun.fails(2, "history", "--predictions", "--to", "x.nothing")


@only_oldest
def test_a_settled_change_is_made_for_good_and_checked(begun: Program, server: Server) -> None:
    code = begun.query_with("WHERE code =")
    before = server.fetch(LEFT)
    trial = begun.json("trial", code, "--index", "alert (code)", "--pairs", "6")["id"]
    assert "--on-production" in begun.fails(2, "settle", trial, "keep", "--on-production")
    begun.fails(2, "settle", trial, "drop", "--apply")
    begun.ok("settle", trial, "keep")
    assert "settled already" in begun.fails(2, "settle", trial, "keep", "--reason", "again")
    done = begun.run("audit", "--json")
    assert done.code == 1 and f"{trial} for {code}" in done.err
    (promise,) = done.json["promises"]
    assert (promise["query"], promise["standing"]) == (code, "not-made")
    try:
        settled = begun.json("settle", trial, "keep", "--apply")
        applied = settled["applied"]
        assert applied["statements"] == ["CREATE INDEX CONCURRENTLY alert_code_idx ON alert (code)"]
        (query,) = applied["queries"]
        assert query["uses_change"] and query["cost_now"] < 0.1 * query["cost_before"]
        assert query["symptoms_gone"]
        assert server.fetch("SELECT indisvalid FROM pg_index WHERE indexrelid = "
                            "'alert_code_idx'::regclass") == [(True,)]  # fmt: skip
        assert "made on postgresql://" in " ".join(begun.ok("history").out.split())
        # Once more: it is there, and neither built again nor cleaned up.
        assert "alert_code_idx" in begun.fails(2, "settle", trial, "keep", "--apply")
        (promise,) = begun.json("audit")["promises"]
        assert promise["standing"] == "held"
        assert promise["cost_now"] == pytest.approx(promise["cost_promised"], rel=0.1)
        assert "all hold" in begun.ok("audit").out
        backward = next(f for f in settled["files"] if "backward" in f)
        for statement in (begun.folder / backward).read_text().split(";"):
            if "DROP" in statement:
                server.do(statement)
    finally:
        server.do("DROP INDEX IF EXISTS alert_code_idx")
    assert server.fetch(LEFT) == before
    assert "nothing to tidy" in begun.ok("tidy").out
    # A production server is changed only when that is meant.
    file = begun.folder / "humble.toml"
    file.write_text(file.read_text().replace('"scratch"', '"production"'))
    assert "unless you say so" in begun.fails(5, "settle", trial, "keep", "--apply")
    assert "production" in begun.fails(5, "trial", code, "--index", "alert (code)")


@only_newest
def test_who_cannot_hide_an_index_is_told_so(begun: Program, server: Server) -> None:
    (first, *_) = begun.json("propose", "--type", "removal")["remedies"]
    assert first["size_bytes_predicted"] < 0
    assert "gives back" in begun.ok("show", first["id"]).out
    server.do("CREATE ROLE watcher LOGIN")
    try:
        url = server.url.replace("//humble@", "//watcher@")
        told = begun.fails(5, "trial", "SELECT 1", "--remedy", first["id"], "--target", url)
    finally:
        server.do("DROP ROLE watcher")
    assert "only a superuser can hide an index" in told


@only_newest
def test_one_query_that_fails_does_not_end_the_trial_of_the_others(
    begun: Program, server: Server
) -> None:
    good = "SELECT alert_id FROM alert WHERE code = 'E-1417'"
    bad = "SELECT 1 / (alert_id - 1) FROM alert WHERE code <> ''"
    trial = begun.json("trial", bad, good, "--index", "alert (code)", "--pairs", "6")
    (tried,) = trial["queries"]
    assert tried["verdict"] == "faster"
    ((_, why),) = trial["failed"].items()
    assert "division by zero" in why
    assert "could not be run" in begun.ok("show", trial["id"]).out
    assert "division by zero" in begun.fails(4, "trial", bad, "--index", "alert (code)")


@only_newest
@pytest.mark.parametrize(
    ("sql", "told"),
    [
        ("SELECT id FROM tied WHERE kind = 1 ORDER BY rank DESC LIMIT 5", "ties in the order"),
        ("SELECT id FROM tied WHERE kind = 1 AND rank > 3 LIMIT 5", "in no order"),
    ],
)
def test_what_a_statement_leaves_open_says_nothing_against_an_index(
    begun: Program, server: Server, sql: str, told: str
) -> None:
    server.do(
        "CREATE TABLE tied AS SELECT n AS id, n % 500 AS kind, 7 + (n % 2000) / 900 AS rank, "
        "repeat('x', 300) AS pad FROM generate_series(1, 20000) n"
    )
    server.do("ANALYZE tied")
    try:
        begun.ok("plan", sql)
        # Its entries lie backwards: other rows of the same rank come first.
        trial = begun.json("trial", sql, "--index", "tied (kind, rank DESC, id DESC)")
    finally:
        server.do("DROP TABLE tied")
    (query,) = trial["queries"]
    assert query["same_result"] and told in query["result_note"], query
    assert query["verdict"] == "faster"
