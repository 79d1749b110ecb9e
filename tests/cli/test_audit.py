"""The audit over time: what is no longer as the ledger has it."""

from __future__ import annotations

import sqlite3
from contextlib import closing

import pytest

from tests.conftest import Server, only_newest
from tests.program import Program

PREFIX = "%m [%p] %q%u@%d/%a "
LINE = (
    "2026-03-02 {hour:02}:{minute:02}:{second:02}.000 UTC [{pid}] humble@skerry/pool LOG:  "
    "duration: {ms:.3f} ms  statement: {sql}"
)
STEADY = "SELECT id FROM visit WHERE buoy = {n}"
SLOWED = "SELECT day FROM visit WHERE keeper = {n}"
NEW = "SELECT max(day) FROM visit WHERE buoy > {n}"


def _log(program: Program, name: str, hour: int, factor: float, *, new: bool = False) -> None:
    lines = []
    for minute in range(30):
        for second in range(0, 60, 10):
            wave = 1.0 + 0.2 * ((minute * 7 + second) % 11) / 11
            told = [(STEADY, 5.0 * wave), (SLOWED, 8.0 * wave * factor)]
            told += [(NEW, 60.0 * wave)] if new else []
            lines += [
                LINE.format(hour=hour, minute=minute, second=second, pid=second, ms=ms,
                            sql=sql.format(n=minute))
                for sql, ms in told
            ]  # fmt: skip
    (program.folder / name).write_text("\n".join(lines) + "\n")
    program.ok("capture", "log", name, "--prefix", PREFIX)


@pytest.fixture
def app(humble: Program) -> Program:
    with closing(sqlite3.connect(humble.folder / "app.db")) as connection:
        connection.executescript(
            """
            CREATE TABLE visit (id INTEGER PRIMARY KEY, buoy INTEGER, keeper INTEGER, day TEXT);
            CREATE INDEX visit_keeper ON visit (keeper);
            """
        )
        connection.executemany(
            "INSERT INTO visit VALUES (?, ?, ?, ?)",
            ((n, n % 300, n * 31 % 700, f"2026-0{n % 9 + 1}") for n in range(20_000)),
        )
        connection.execute("ANALYZE")
        connection.commit()
    humble.ok("init", "app.db", "--role", "scratch")
    return humble


def _found(program: Program, *arguments: str) -> dict[str, list[dict[str, object]]]:
    kinds: dict[str, list[dict[str, object]]] = {}
    for each in program.run("audit", "--json", *arguments).json["findings"]:
        kinds.setdefault(str(each["kind"]), []).append(each)
    return kinds


def test_what_became_slower_or_is_new_is_told_and_nothing_else(app: Program) -> None:
    assert "Nothing was captured yet" in app.ok("audit").out
    _log(app, "monday.log", 9, 1.0)
    assert "is the first capture" in app.ok("audit").out
    _log(app, "tuesday.log", 12, 1.0)
    assert _found(app) == {}
    assert "Nothing else has changed" in app.ok("audit").out
    _log(app, "wednesday.log", 15, 2.5, new=True)
    found = _found(app)
    assert set(found) == {"slower", "new"}
    (slower,), (new,) = found["slower"], found["new"]
    assert slower["subject"] == app.query_with("SELECT day FROM visit")
    assert "2.5 times" in str(slower["words"]) and slower["evidence"] == ["k3", "k1 to k2"]
    assert new["subject"] == app.query_with("max(day)")
    assert str(slower["next"]).startswith("humble diagnose")
    app.ok("audit")
    done = app.run("audit", "--fail-on", "slower,flipped")
    assert done.code == 1 and "slower" in done.err
    assert "flipped" in app.fails(2, "audit", "--fail-on", "slow")


def test_a_plan_that_turned_is_shown_beside_the_old_one_with_its_cause(app: Program) -> None:
    _log(app, "monday.log", 9, 1.0)
    query = app.query_with("SELECT day FROM visit")
    trial = app.json("trial", query, "--index", "visit (keeper, day)")
    app.ok("settle", trial["id"], "keep", "--apply", "--reason", "keepers wait")
    app.ok("plan", query)
    assert _found(app, "--fail-on", "none").get("flipped") is None
    with closing(sqlite3.connect(app.folder / "app.db")) as connection:
        connection.execute("DROP INDEX visit_keeper_day_idx")
        connection.execute("DROP INDEX visit_keeper")
    done = app.run("audit")
    assert done.code == 1  # the promise is broken, too
    (flip,) = _found(app)["flipped"]
    assert flip["subject"] == query
    assert "the index visit_keeper_day_idx is gone" in str(flip["words"])
    remedy = trial["remedies"][0]
    assert flip["next"] == f"humble trial {query} --remedy {remedy}"
    assert any(line.startswith("+ full scan visit") for line in flip["plan_difference"])  # type: ignore[attr-defined]
    old, new = flip["evidence"]  # type: ignore[misc]
    assert "visit_keeper_day_idx" in app.ok("compare", str(old), str(new)).out
    # Told until somebody has looked: the plan that is read then is the one to go by.
    assert _found(app)["flipped"][0]["evidence"] == [old, new]
    # And the way back is verified by the trial it names.
    again = app.json("trial", query, "--remedy", remedy)
    assert again["verdict"] == "faster"
    app.ok("plan", query)
    assert "flipped" not in _found(app)


@only_newest
def test_a_setting_that_turned_a_plan_is_asked_whether_it_turns_it_back(
    begun: Program, server: Server
) -> None:
    sql = "SELECT message FROM alert WHERE alert_id = 4711"
    begun.ok("plan", sql)
    query = begun.json("history")["events"][-1]["words"].split()[-1]
    begun.ok("capture", "log", str(server.log), "--prefix", PREFIX)
    (begun.folder / "one.log").write_text(
        LINE.format(hour=9, minute=1, second=1, pid=4, ms=900.0, sql=sql) + "\n"
    )
    begun.ok("capture", "log", "one.log", "--prefix", PREFIX)
    try:
        server.do("ALTER ROLE humble SET enable_indexscan = off")
        server.do("ALTER ROLE humble SET enable_bitmapscan = off")
        flips = {each["subject"]: each for each in _found(begun)["flipped"]}
    finally:
        server.do("ALTER ROLE humble RESET enable_indexscan")
        server.do("ALTER ROLE humble RESET enable_bitmapscan")
    words = str(flips[query]["words"])
    assert "enable_indexscan was the default and is off" in words


@only_newest
def test_a_kept_index_that_nobody_uses_is_told_after_a_while(
    begun: Program, server: Server
) -> None:
    code = begun.query_with("WHERE code =")
    trial = begun.json("trial", code, "--index", "alert (code)", "--pairs", "6")["id"]
    begun.ok("settle", trial, "keep")
    server.do("CREATE INDEX alert_code_idx ON alert (code)")
    try:
        assert "unused" not in _found(begun)  # it was kept a moment ago
        with closing(sqlite3.connect(begun.folder / "humble.ledger")) as connection:
            connection.execute("UPDATE settlements SET at = '2026-03-02T10:00:00.000+00:00'")
            connection.commit()
        (unused,) = _found(begun)["unused"]
        assert unused["subject"] == "alert_code_idx" and trial in str(unused["words"])
        server.do("SET enable_seqscan = off; SELECT * FROM alert WHERE code = 'x'")
        server.do("SELECT pg_stat_force_next_flush()")
        assert "unused" not in _found(begun)
    finally:
        server.do("DROP INDEX alert_code_idx")
