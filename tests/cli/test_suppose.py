"""What if, by the program: supposed indexes, what is left out, and the copies it is asked on."""

from __future__ import annotations

import pytest

from tests.conftest import Server, only_newest
from tests.program import Program

SENSOR = "SELECT taken_at, value FROM reading WHERE sensor_id = 7 AND taken_at >= '2026-03-01'"


@only_newest
def test_what_is_supposed_is_what_a_trial_finds(begun: Program, server: Server) -> None:
    found = begun.json("suppose", SENSOR, "--index", "reading (sensor_id)")
    (query,), (index,) = found["queries"], found["indexes"]
    assert found["way"] == "planner" and found["cautions"] == []
    assert query["cost_after"] < query["cost_before"] / 5
    assert query["uses"] == ["reading (sensor_id)"] and not query["same_shape"]
    server.do("CREATE INDEX really ON reading (sensor_id)")
    try:
        plan = begun.json("plan", SENSOR)
        assert plan["cost_total"] == pytest.approx(query["cost_after"], rel=0.05)
        (size,) = server.fetch("SELECT pg_relation_size('really')")[0]
        assert index["size_bytes_predicted"] == pytest.approx(size, rel=0.05)
    finally:
        server.do("DROP INDEX really")
    shown = begun.ok("suppose", SENSOR, "--index", "reading (sensor_id)", "--as", "compare")
    assert "reading_sensor_id_idx" in shown.out


@only_newest
def test_everything_that_can_be_supposed_holds_together(begun: Program, server: Server) -> None:
    proposed = begun.json("propose", SENSOR)["remedies"]
    assert {q["way"] for r in proposed if r["type"] == "index" for q in r["queries"]} == {"planner"}
    remedy = next(r["id"] for r in proposed if r["type"] == "index")
    text = "SELECT count(*) FROM reading WHERE buoy_id = 12"
    found = begun.json(
        "suppose", SENSOR, text, "--remedy", remedy,
        "--without-index", "reading_buoy", "--without-index", "reading_buoy_taken",
        "--set", "work_mem=99MB", "--rows", "alert=10x",
    )  # fmt: skip
    first, second = found["queries"]
    assert first["cost_after"] < first["cost_before"]
    assert second["cost_after"] > 2 * second["cost_before"] and not second["uses"]
    assert found["settings"] == {"work_mem": "99MB"} and len(found["without"]) == 2
    assert found["rows"] == {"alert": 10.0}


@only_newest
def test_statistics_that_are_supposed_are_those_that_analyze_finds(
    begun: Program, server: Server
) -> None:
    server.do(
        "CREATE TABLE drift AS SELECT n AS id, n % 50 AS kind, n % 50 * 3 + n / 50 % 2 AS sub, "
        "date '2020-01-01' + n / 200 AS day FROM generate_series(1, 120000) n"
    )
    server.do("ALTER TABLE drift DROP COLUMN id")  # the columns' numbers begin with a gap
    server.do("ANALYZE drift")
    try:
        for text, columns in (
            ("SELECT * FROM drift WHERE kind = 3 AND sub = 9 ORDER BY day", "kind, sub"),
            ("SELECT kind, sub, count(*) FROM drift GROUP BY kind, sub", "kind, sub"),
            ("SELECT kind, day, count(*) FROM drift GROUP BY kind, day", "day, kind"),
        ):
            found = begun.json("suppose", text, "--statistics", f"drift ({columns})")
            (query,) = found["queries"]
            assert found["statistics"] == [f"drift ({columns})"] and not query["caution"]
            server.do(f"CREATE STATISTICS drifting ON {columns} FROM drift")
            server.do("ANALYZE drift")
            really = begun.json("plan", text)["cost_total"]
            server.do("DROP STATISTICS drifting")
            assert query["cost_after"] == pytest.approx(really, rel=0.05), text
            assert abs(query["cost_after"] - query["cost_before"]) > 0.01 * query["cost_before"]
        again = begun.json("suppose", text, "--rows", "drift=1x")["queries"][0]
        assert again["cost_after"] == query["cost_before"], "of the statistics nothing stays"
        proposed = begun.json("propose", "SELECT * FROM drift WHERE kind = 3 AND sub = 9")
        for remedy in proposed["remedies"]:
            if "together" in remedy["summary"]:
                begun.ok("suppose", "SELECT 1 FROM drift", "--remedy", remedy["id"])
    finally:
        server.do("DROP TABLE drift")


@only_newest
def test_the_formula_is_there_for_those_who_ask(begun: Program, server: Server) -> None:
    proposed = begun.json("propose", SENSOR, "--predict-with", "formula")["remedies"]
    assert {q["way"] for r in proposed if r["type"] == "index" for q in r["queries"]} == {"formula"}


@only_newest
def test_a_statement_that_cannot_be_studied_takes_nothing_from_the_others(
    begun: Program, server: Server
) -> None:
    gone = "SELECT a FROM fleeting WHERE a = 1"
    found = begun.json("propose", gone, SENSOR)
    assert [what for what, _ in found["left_out"]] == [gone]
    assert found["remedies"]
    shown = begun.ok("propose", gone, SENSOR).out
    assert f"{gone} is left out" in shown and "sensor_id" in shown
    assert "fleeting" in begun.fails(4, "propose", gone)
    chosen = begun.json("propose", gone, SENSOR, "--budget", "1GB")
    assert [what for what, _ in chosen["unstudied"]] == [gone] and chosen["picked"]


@only_newest
@pytest.mark.parametrize(
    ("arguments", "code", "words"),
    [
        (["suppose", SENSOR], 2, "Nothing is supposed"),
        (["suppose", SENSOR, "--index", "nowhere (a)"], 2, "no table nowhere"),
        (["suppose", SENSOR, "--index", "reading (nothing)"], 4, "nothing"),
        (["suppose", SENSOR, "--without-index", "nothing"], 2, "no index nothing"),
        (["suppose", SENSOR, "--remedy", "r999"], 2, "r999"),
        (["suppose", SENSOR, "--rows", "reading"], 2, "not a growth"),
        (["suppose", SENSOR, "--statistics", "reading (value)"], 2, "no group of columns"),
        (["suppose", SENSOR, "--statistics", "reading (value, nothing)"], 2, "no column nothing"),
        (["suppose", SENSOR, "--index", "reading (value)", "--as", "tree"], 2, "compare"),
        (["propose", SENSOR, "--predict-with", "dice"], 2, "planner or formula"),
    ],
)
def test_a_mistake_is_told_with_what_to_do(
    begun: Program, server: Server, arguments: list[str], code: int, words: str
) -> None:
    assert words in begun.fails(code, *arguments)


@only_newest
def test_copies_are_listed_and_dropped(begun: Program, server: Server) -> None:
    built = begun.json("hollow", "build")
    assert built["notes"] == []
    listed = begun.json("hollow", "list")["hollows"]
    assert built["target"] in {each["target"] for each in listed}
    assert all(0 < each["disk_bytes"] < 500 * 1024**2 for each in listed)
    assert begun.json("hollow", "drop") == {
        "dropped": len(listed), "in_use": [], "kind": "hollows-dropped", "version": 1,
    }  # fmt: skip
    assert begun.json("hollow", "list")["hollows"] == []


@only_newest
def test_a_masked_folder_keeps_no_copy(begun: Program, server: Server) -> None:
    begun.ok("hollow", "drop")
    settings = begun.folder / "humble.toml"
    settings.write_text(settings.read_text().replace("mask = false", "mask = true"))
    begun.ok("suppose", SENSOR, "--index", "reading (sensor_id)")
    assert begun.json("hollow", "list")["hollows"] == []


@only_newest
def test_a_flip_that_growth_predicts_is_where_the_grown_table_flips(
    begun: Program, server: Server
) -> None:
    text = "SELECT count(*) FROM tiny WHERE note LIKE '%y%'"
    fill = "INSERT INTO tiny SELECT n % 50, repeat('x', 80) FROM generate_series(1, {}) n"
    server.do("CREATE TABLE tiny (kind integer, note text)")
    try:
        server.do(fill.format(2000))
        server.do("VACUUM ANALYZE tiny")
        figure = begun.folder / "growth.svg"
        found = begun.json("grow", "tiny=1000x", "--query", text, "--to", str(figure))
        (query,) = found["queries"]
        assert figure.stat().st_size > 1000 and found["tables"] == {"tiny": 1000.0}
        flip = query["flips"][0]["factor"]
        assert "parallel" in query["flips"][0]["plan_after"]
        costs = [size["cost"] for size in query["sizes"]]
        assert costs[-1] > 100 * costs[0] and len(costs) > 8
        for factor, parallel in ((flip / 1.2, False), (flip * 1.2, True)):
            server.do("TRUNCATE tiny")
            server.do(fill.format(round(2000 * factor)))
            server.do("VACUUM ANALYZE tiny")
            (plan,) = server.fetch(f"EXPLAIN (FORMAT JSON) {text}")[0]
            assert ("Gather" in str(plan)) is parallel, (factor, plan)
    finally:
        server.do("DROP TABLE tiny")


@only_newest
def test_growth_tells_from_which_size_on_a_proposed_index_pays(
    begun: Program, server: Server
) -> None:
    text = "SELECT note FROM minute WHERE kind = 7"
    fill = "INSERT INTO minute SELECT n % 500, repeat('x', 80) FROM generate_series(1, {}) n"
    server.do("CREATE TABLE minute (kind integer, note text)")
    try:
        server.do(fill.format(50_000))
        server.do("VACUUM ANALYZE minute")
        proposed = begun.json("propose", text)["remedies"][0]
        (query,) = {q["id"] for q in proposed["queries"]}
        server.do("TRUNCATE minute")
        server.do(fill.format(20))
        server.do("VACUUM ANALYZE minute")
        (grown,) = begun.json("grow", "minute=5000x", "--query", query)["queries"]
        worth = next(w for w in grown["indexes"] if w["remedy"] == proposed["id"])
        assert not worth["pays_now"] and worth["gain_then"] > 5
        (turn,) = worth["turns"]
        assert 1 < turn < 5000
        told = begun.ok("grow", "minute=5000x", "--query", query).out
        kept = begun.json("history")["events"][-1]
        assert kept["subject"] == query and "minute 5,000×" in kept["words"]
        assert "cheaper now" in told and "from " in told
    finally:
        server.do("DROP TABLE minute")


@only_newest
def test_a_longer_history_leaves_the_last_day_as_it_is(begun: Program, server: Server) -> None:
    text = "SELECT * FROM past WHERE at > '2026-03-01 00:00' ORDER BY at"
    fill = (
        "INSERT INTO past SELECT '2026-03-02'::timestamp - n * interval '1 minute', "
        "repeat('x', 60) FROM generate_series(1, {}) n ORDER BY n DESC"
    )
    server.do("CREATE TABLE past (at timestamp, note text)")
    try:
        server.do(fill.format(20_000))
        server.do("CREATE INDEX past_at ON past (at)")
        server.do("VACUUM ANALYZE past")
        grow = ("grow", "past=8x", "--query", text)
        alike, older = (
            begun.json(*grow, *flag)["queries"][0]["sizes"][-1]["cost"]
            for flag in ((), ("--longer-history",))
        )
        server.do("TRUNCATE past")
        server.do(fill.format(160_000))
        server.do("VACUUM ANALYZE past")
        real = begun.json("plan", text)["cost_total"]
        assert older == pytest.approx(real, rel=0.2) and alike > 3 * real
    finally:
        server.do("DROP TABLE past")


@only_newest
def test_growth_tells_what_it_cannot_do(begun: Program, server: Server) -> None:
    assert "above 1" in begun.fails(2, "grow", "reading=0.5x")
    assert "not a growth" in begun.fails(2, "grow", "reading")
    assert "no table nothing" in begun.fails(2, "grow", "nothing=3x")
    found = begun.json("grow", "keeper=2x", "--query", SENSOR)
    assert found["queries"] == [] and found["unaffected"] == [SENSOR]
    query = begun.query_with("FROM reading WHERE sensor_id = $1")
    begun.ok("grow", "reading=8x", "--query", query)
    words = begun.json("history")["events"][-1]["words"].removeprefix("grown: ")
    assert "reading 8× its estimated cost goes from" in words
    begun.ok("report", "--to", "grown.html")
    page = (begun.folder / "grown.html").read_text()
    assert "What becomes of it when tables grow" in page and words in page
    shown = begun.ok("grow", "reading=8x", "--query", SENSOR).out
    assert "power" in shown and "8.00×" in shown
