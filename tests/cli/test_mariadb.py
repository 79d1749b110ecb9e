"""The whole loop on a real MariaDB, by the same commands as on any other server."""

from __future__ import annotations

import re
import shutil
import signal
import sqlite3
import threading
import time
from contextlib import closing, suppress
from pathlib import Path
from tempfile import mkdtemp

import pymysql
import pytest

from humble_ledger.demo.mariadb import mariadb_workload
from tests.conftest import Maria
from tests.program import PATIENCE_S, Program

pytestmark = pytest.mark.xdist_group("mariadb")
BY_CODE = "SHOW INDEX FROM alert WHERE Column_name = 'code' AND Seq_in_index = 1"
SENSOR = "FROM reading WHERE sensor_id = $1 AND taken_at >= $2"


def names(found: dict[str, object]) -> dict[str, dict[str, object]]:
    return {each["name"]: each for each in found["symptoms"]}  # type: ignore[index, attr-defined]


def test_from_the_slow_log_to_a_change_that_is_kept(aimed: Program, maria: Maria) -> None:
    sources = {each["source"]: each for each in aimed.json("preflight")["sources"]}
    assert sources["slow log"]["state"] == sources["statement statistics"]["state"] == "on"
    ranked = aimed.json("queries", "--top", "30")["queries"]
    assert len(ranked) == len(mariadb_workload())
    query = aimed.query_with(SENSOR)

    plan = aimed.json("plan", query, "--measure")
    assert plan["engine"]["name"] == "mariadb" and plan["measured"]
    found = names(aimed.json("diagnose", query))
    assert found["selective-full-scan"]["cause"]["name"] == "no-index"

    proposed = aimed.json("propose", query)["remedies"]
    best = next(r for r in proposed if r["summary"].endswith("(sensor_id, taken_at)"))
    assert best["apply"] == [
        "CREATE INDEX reading_sensor_id_taken_at_idx ON reading (sensor_id, taken_at);"
    ]
    tried = aimed.json("trial", query, "--remedy", best["id"], "--pairs", "12")
    assert tried["verdict"] == "faster" and tried["way"] == "ignored-index"
    assert tried["left_behind"] == []
    (mine,) = tried["queries"]
    assert mine["uses_change"] and mine["same_result"]
    assert mine["after"]["cost"] < mine["before"]["cost"] / 20
    predicted = next(p for p in best["queries"] if p["id"] == query)["cost_predicted"]
    assert 0.3 < predicted / mine["after"]["cost"] < 3

    applied = aimed.json("settle", "t1", "keep", "--reason", "each buoy page", "--apply")["applied"]
    try:
        assert applied["statements"] == [
            "CREATE INDEX reading_sensor_id_taken_at_idx ON reading (sensor_id, taken_at) "
            "ALGORITHM=INPLACE LOCK=NONE"
        ]
        assert aimed.json("plan", query)["root"]["index"] == "reading_sensor_id_taken_at_idx"
        assert "all hold" in aimed.ok("audit").out
        (backward,) = aimed.folder.glob("migrations/*.backward.sql")
        for statement in backward.read_text().split(";\n"):
            if statement.strip():
                maria.do(statement)
        assert not maria.fetch("SHOW INDEX FROM reading WHERE Key_name LIKE '%sensor%'")
    finally:
        maria.do("DROP INDEX IF EXISTS reading_sensor_id_taken_at_idx ON reading")


def test_the_log_and_the_servers_counters_agree_on_one_run(aimed: Program, maria: Maria) -> None:
    aimed.ok("capture", "server")

    def totals(source: str) -> dict[str, tuple[int, float]]:
        rows = aimed.json("queries", "--top", "100", "--source", source)["queries"]
        return {row["id"]: (row["calls"], row["total_ms"]) for row in rows}

    logged, counted = totals("log"), totals("server")
    assert logged.keys() <= counted.keys()
    for query, (calls, total_ms) in logged.items():
        assert counted[query][0] == calls
        # The counters have the sending of rows in them, too.
        assert total_ms <= counted[query][1] * 1.01 + 1


@pytest.mark.parametrize(
    ("statement", "symptom", "cause"),
    [
        ("SELECT * FROM alert WHERE code = 'E-1417'",
         "selective-full-scan", "not-the-leading-column"),
        ("SELECT * FROM alert WHERE date(raised_at) = '2026-03-14'",
         "selective-full-scan", "function-on-column"),
        ("SELECT * FROM alert WHERE crew = 'crew-21' AND cause = 'cause-3'",
         "selective-full-scan", "no-index"),
        ("SELECT * FROM alert WHERE code + 0 = 7", "selective-full-scan", ""),
        ("SELECT * FROM visit WHERE keeper_id = 417", "selective-full-scan", "no-index"),
        ("SELECT b.name, (SELECT count(*) FROM alert a WHERE a.buoy_id = b.buoy_id) FROM buoy b",
         "subquery-per-row", "correlated-subquery"),
        ("SELECT count(*) FROM sensor s, keeper k WHERE s.kind = 'salinity'",
         "missing-join-condition", "join-condition-missing"),
        ("SELECT a.alert_id FROM alert a JOIN buoy b ON b.buoy_id = a.buoy_id"
         " WHERE a.crew = 'crew-21'", "column-statistics-missing", "no-column-statistics"),
        ("SELECT * FROM alert WHERE sensor_id + 1 = 7", "selective-full-scan", ""),
        ("SELECT * FROM reading ORDER BY value LIMIT 10", "top-n-without-index", ""),
        ("SELECT * FROM alert WHERE message LIKE '%reported 00%'", "selective-full-scan", ""),
    ],
)  # fmt: skip
def test_planted_troubles_are_found(
    aimed: Program, statement: str, symptom: str, cause: str
) -> None:
    found = names(aimed.json("diagnose", statement))
    assert symptom in found, found
    assert cause in ("", found[symptom]["cause"]["name"])  # type: ignore[index]


RIGHT = (
    "SELECT * FROM reading WHERE reading_id = 5000",
    "SELECT * FROM reading WHERE buoy_id = 200 AND taken_at >= '2026-04-01'"
    " AND taken_at < '2026-04-02'",
    "SELECT count(*), avg(value) FROM reading",
    "SELECT * FROM buoy WHERE kind = 'harbour'",  # a table of one page or two
    "SELECT s.kind FROM sensor s WHERE s.buoy_id = 17",
    "SELECT max(raised_at) FROM alert",
    "SELECT a.alert_id FROM alert a WHERE a.raised_at >= '2026-06-25'",
    "SELECT 1",
)


def test_what_is_right_is_left_alone(aimed: Program) -> None:
    for statement in RIGHT:
        found = aimed.json("diagnose", statement)["symptoms"]
        assert [each["name"] for each in found if not each["harmless"]] == [], statement
    # All at once: a copy of the target is made for each call.
    assert not aimed.json("propose", *RIGHT)["remedies"]


def test_the_planner_is_asked_on_a_copy_and_tells_where_an_index_harms(aimed: Program) -> None:
    query = aimed.query_with("k.region_id = r.region_id")
    told = aimed.ok("suppose", query, "--index", "sensor (kind, buoy_id)").out
    assert "× dearer" in told and "on a copy of the target" in told


def test_a_conversion_that_no_plan_shows_is_found(aimed: Program, maria: Maria) -> None:
    maria.do("CREATE INDEX alert_code ON alert (code)")
    try:
        found = names(aimed.json("diagnose", "SELECT * FROM alert WHERE code = 1417"))
        assert found["selective-full-scan"]["cause"]["name"] == "type-mismatch"
        right = aimed.json("diagnose", "SELECT * FROM alert WHERE code = 'E-1417'")["symptoms"]
        assert not right
    finally:
        maria.do("DROP INDEX alert_code ON alert")


def test_statistics_that_joins_are_planned_without_are_proposed(
    aimed: Program, maria: Maria
) -> None:
    sql = "SELECT a.alert_id FROM alert a JOIN buoy b ON b.buoy_id = a.buoy_id "
    sql += "WHERE a.crew = 'crew-21'"

    def passed() -> float:
        rows = maria.fetch(f"EXPLAIN EXTENDED {sql}")
        return next(float(str(row[9])) for row in rows if row[2] == "a")

    (remedy,) = aimed.json("propose", sql, "--type", "statistics")["remedies"]
    assert remedy["for_queries"] and passed() == 100.0
    try:
        for statement in remedy["apply"]:
            maria.do(statement)
        # The usual histogram would say 99 %: the texts begin alike.
        assert passed() == pytest.approx(2.5, abs=0.5)
    finally:
        for statement in remedy["revert"]:
            maria.do(statement)
    assert passed() == 100.0
    # Neither what was counted then, which would be believed for ever.
    assert not maria.fetch("SELECT * FROM mysql.table_stats")


def test_a_removal_and_a_useless_index_are_judged(aimed: Program) -> None:
    removals = aimed.json("propose", "--type", "removal")["remedies"]
    assert {r["type"] for r in removals} == {"removal"}
    removal = next(r for r in removals if r["summary"].startswith("remove the index reading_buoy "))
    assert removal["apply"] == ["DROP INDEX reading_buoy ON reading;"]
    some = [row["id"] for row in aimed.json("queries")["queries"] if "reading" in row["text"]][:3]
    proposed = aimed.json("propose", *some, "--type", "index")["remedies"]
    ways = {q["way"] for r in proposed for q in r["queries"]}
    assert "planner" in ways
    # What makes one query clearly dearer is proposed only where another gains by it.
    for remedy in proposed:
        ratios = [q["cost_predicted"] / q["cost_before"] for q in remedy["queries"]]
        assert max(ratios, default=0) <= 1.2 or min(ratios) < 0.8
    day = aimed.query_with("WHERE buoy_id = $1 AND taken_at >= $2")
    tried = aimed.json("trial", day, "--remedy", removal["id"], "--pairs", "12")
    assert tried["verdict"] in ("same", "undecided", "no-difference", "no difference")
    useless = aimed.json("trial", day, "--index", "reading (quality, value)", "--pairs", "6")
    assert useless["verdict"] != "faster"
    assert useless["left_behind"] == []


def test_statements_that_write_are_run_and_taken_back(aimed: Program, maria: Maria) -> None:
    write = "UPDATE alert SET status = 'closed' WHERE code = 'E-1417'"
    before = maria.fetch("CHECKSUM TABLE alert")
    assert "--allow-writes" in aimed.fails(5, "plan", write, "--measure")
    plan = aimed.json("plan", write, "--measure", "--allow-writes")
    assert plan["measured"]
    tried = aimed.json("trial", write, "--index", "alert (code)", "--allow-writes", "--pairs", "6")
    assert tried["way"] == "online-index" and tried["left_behind"] == []
    assert maria.fetch("CHECKSUM TABLE alert") == before
    assert not maria.fetch(BY_CODE)


def test_what_cannot_be_taken_back_is_refused(aimed: Program, maria: Maria, tmp_path: Path) -> None:
    maria.do("CREATE TABLE old_notes (id int, note text) ENGINE=Aria")
    maria.do("INSERT INTO old_notes VALUES (1, 'kept')")
    maria.do("CREATE SEQUENCE tickets")
    out = tmp_path / "out"
    attacks = [
        ("DELETE FROM old_notes", "--allow-writes"),
        ("INSERT INTO old_notes SELECT alert_id, message FROM alert", "--allow-writes"),
        (f"SELECT 1 INTO OUTFILE '{out}'", "--allow-writes"),
        (f"SELECT 1 /*! INTO OUTFILE '{out}' */",),
        ("SELECT get_lock('buoys', 1)",),
        ("SELECT sleep(3)",),
        ("SELECT nextval(tickets)",),
        ("SELECT NEXT VALUE FOR tickets",),
        ("SELECT load_file('/etc/hostname')",),
        ("SELECT '\\'; DROP TABLE old_notes; -- '; DROP TABLE old_notes; -- '",),
    ]
    try:
        for statement, *allowed in attacks:
            for command in (("plan", statement, "--measure"), ("trial", statement, "--index",
                            "alert (code)", "--pairs", "6")):  # fmt: skip
                done = aimed.run(*command, *allowed)
                assert done.code in (0, 4, 5), (command, done.err)
                assert "Traceback" not in done.err
        assert maria.fetch("SELECT note FROM old_notes") == [("kept",)]
        assert maria.fetch("SELECT next_not_cached_value FROM tickets") == [(1,)]
        assert not out.exists()
        assert not maria.fetch(
            "SHOW INDEX FROM alert WHERE Column_name = 'code' AND Seq_in_index = 1"
        )
    finally:
        maria.do("DROP TABLE old_notes")
        maria.do("DROP SEQUENCE tickets")


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGKILL])
def test_a_trial_that_is_ended_leaves_nothing_that_tidy_does_not_find(
    aimed: Program, maria: Maria, how: signal.Signals
) -> None:
    query = aimed.query_with("count(*) AS good")
    there = "SHOW INDEX FROM reading WHERE Key_name REGEXP '__t[0-9]'"
    begun = aimed.start("trial", query, "--index", "reading (value)", "--pairs", "400")
    while begun.poll() is None and not maria.fetch(there):
        time.sleep(0.05)
    begun.send_signal(how)
    begun.communicate(timeout=PATIENCE_S)
    if how is signal.SIGINT:
        assert not maria.fetch(there)
        return
    assert maria.fetch(there)
    assert "index" in aimed.ok("tidy").out
    assert not maria.fetch(there)


def test_nobody_waits_long_for_an_index_while_a_transaction_is_open(
    aimed: Program, maria: Maria
) -> None:

    other = pymysql.connect(unix_socket=str(maria.cluster.socket), user="humble", database="skerry")
    with other, other.cursor() as cursor:
        cursor.execute("SELECT 1 FROM alert LIMIT 1")  # the transaction stays open
        said = aimed.fails(6, "trial", "SELECT * FROM alert WHERE code = 'E-1'", "--index",
                           "alert (code)")  # fmt: skip
        assert "lock" in said
    assert not maria.fetch("SHOW INDEX FROM alert WHERE Key_name REGEXP '__t[0-9]'")


def test_sessions_are_seen_at_work_and_who_blocks_whom(aimed: Program, maria: Maria) -> None:

    def connected() -> pymysql.Connection:
        return pymysql.connect(
            unix_socket=str(maria.cluster.socket), user="humble", database="skerry",
            program_name="duty-desk",
        )  # fmt: skip

    holder, waiter = connected(), connected()
    with holder, holder.cursor() as cursor:
        cursor.execute("UPDATE buoy SET depth_m = depth_m + 1 WHERE buoy_id = 5")

        def wait() -> None:
            with waiter.cursor() as blocked:
                blocked.execute("UPDATE buoy SET depth_m = 1 WHERE buoy_id = 5")

        thread = threading.Thread(target=wait)
        thread.start()
        found = aimed.json("capture", "live", "--for", "2s", "--every", "50")
        holder.rollback()
        thread.join()
        waiter.rollback()
    (root,) = found["blockers"]
    assert root["state"] == "idle in transaction"
    (blocked,) = root["blocks"]
    assert blocked["statement"].startswith("UPDATE buoy SET depth_m = 1")
    assert len(found["statements"]) == 1, "one run, however often it was seen"


def test_a_running_statement_is_followed_step_by_step_and_seen_again(
    aimed: Program, maria: Maria
) -> None:
    raw = pymysql.connect(
        unix_socket=str(maria.cluster.socket), user="humble", database="skerry", autocommit=True
    )
    # It would take minutes, and is ended below: however quick the machine, it is still at work.
    sql = (
        "SELECT count(*) FROM reading r JOIN alert a ON a.buoy_id = r.buoy_id "
        "AND a.raised_at > r.taken_at JOIN visit v ON v.buoy_id = r.buoy_id "
        "JOIN visit w ON w.buoy_id = r.buoy_id WHERE sqrt(r.value) > 1"
    )

    def run() -> None:
        with suppress(pymysql.Error), raw.cursor() as cursor:
            cursor.execute(f"SET STATEMENT max_statement_time = 600 FOR {sql}")

    sender = threading.Thread(target=run)
    sender.start()
    try:
        number = str(raw.thread_id())
        running = f"SELECT 1 FROM information_schema.PROCESSLIST WHERE ID = {number} AND INFO <> ''"
        while not maria.fetch(running):
            time.sleep(0.05)
        found = aimed.json("capture", "live", "--follow", number, "--every", "300", "--for", "4s")
    finally:
        maria.do(f"KILL QUERY {raw.thread_id()}")
        sender.join()
    assert sql in found["statement"] and not found["ended"]
    rows = [sum(look["rows"].values()) for look in found["looks"] if look["rows"]]
    # It is under way: more came from look to look, and the plan tells of how many.
    assert len(rows) >= 2 and rows == sorted(rows) and rows[-1] > rows[0]
    assert max(found["rows_expected"].values()) > 1000
    again = aimed.json("capture", "live", "--again", found["plan"])
    assert again["looks"][-1]["rows"] == found["looks"][-1]["rows"]
    assert "rows expected" in aimed.ok("capture", "live", "--again", found["plan"]).out
    assert "runs nothing now" in aimed.fails(2, "capture", "live", "--follow", "999999")


def test_a_followed_statement_can_be_kept_without_its_values(aimed: Program, maria: Maria) -> None:
    raw = pymysql.connect(unix_socket=str(maria.cluster.socket), user="humble", database="skerry")

    def run() -> None:
        with suppress(pymysql.Error), raw.cursor() as cursor:
            cursor.execute("SELECT sleep(60), 'keeper 4711' FROM buoy WHERE name <> 'secret name'")

    sender = threading.Thread(target=run)
    sender.start()
    number = str(raw.thread_id())
    try:
        busy = f"SELECT 1 FROM information_schema.PROCESSLIST WHERE ID = {number} AND INFO <> ''"
        while not maria.fetch(busy):
            time.sleep(0.05)
        found = aimed.json(
            "capture", "live", "--follow", number, "--every", "200", "--for", "1s", "--mask"
        )
    finally:
        maria.do(f"KILL QUERY {number}")
        sender.join()
    assert "sleep" in found["statement"] and "4711" not in found["statement"]
    with closing(sqlite3.connect(aimed.folder / "humble.ledger")) as ledger:
        kept = "".join(ledger.iterdump())
    assert "secret name" not in kept and "keeper 4711" not in kept
    assert b"secret name".hex().upper() not in kept.upper()


def test_what_an_application_sends_through_its_driver_is_recorded(
    humble: Program, maria: Maria
) -> None:

    from humble_ledger.recording import Recorder, record  # noqa: PLC0415

    log = humble.folder / "sent.jsonl"
    recorder = Recorder(log)
    plain = pymysql.connect(
        unix_socket=str(maria.cluster.socket), user="humble", database="skerry", autocommit=True
    )
    sent = record(plain, recorder)
    with sent.cursor() as cursor:
        for code in ("E-1417", "E-2250"):
            cursor.execute("SELECT alert_id FROM alert WHERE code = %s", (code,))
            assert cursor.fetchall()
        cursor.execute(
            "SELECT visit_id FROM visit WHERE keeper_id = %(keeper)s LIMIT %(most)s",
            {"keeper": 417, "most": 5},
        )
        assert len(cursor.fetchall()) == 5
    sent.close()
    recorder.flush()

    humble.ok("init", maria.url, "--role", "scratch")
    assert humble.json("capture", "log", str(log))["kept_runs"] == 3
    by_code = humble.ok("queries", "--by-code").out
    assert "2 places, 3 calls" in by_code
    query = humble.query_with("FROM alert WHERE code = $1")
    found = names(humble.json("diagnose", query, "--measure"))
    assert found["full-index-scan"]["cause"]["name"] == "not-the-leading-column"
    paged = humble.query_with("FROM visit WHERE keeper_id = $1")
    assert humble.json("plan", paged)["root"]["operation"] == "limit"


def test_names_and_values_of_every_kind_go_through_the_loop(humble: Program, maria: Maria) -> None:
    red = "\x1b[31mred"
    columns = f"`key` int PRIMARY KEY, `a b` varchar(50), `{red}` int"
    maria.do(f"CREATE TABLE `order items` ({columns})")
    try:
        values = "seq, concat('v', seq % 300, '\x1b[2J'), seq % 31"
        maria.do(f"INSERT INTO `order items` SELECT {values} FROM seq_1_to_20000")
        maria.do("ANALYZE TABLE `order items`")
        humble.ok("init", maria.url, "--role", "scratch")
        statement = f"SELECT `{red}` FROM `order items` o WHERE o.`a b` = 'v7\x1b[2J'"
        for command in (("plan", "--measure"), ("diagnose",), ("propose",)):
            said = humble.ok(command[0], statement, *command[1:])
            assert "\x1b" not in said.out
        (best,) = humble.json("propose", statement)["remedies"]
        assert "ON `order items` (`a b`)" in best["apply"][0]
        tried = humble.json("trial", statement, "--remedy", best["id"], "--pairs", "6")
        assert tried["queries"][0]["uses_change"] and tried["left_behind"] == []
        assert "\x1b" not in humble.ok("table", "order items").out
    finally:
        maria.do("DROP TABLE `order items`")


def test_long_texts_are_found_by_their_beginnings(humble: Program, maria: Maria) -> None:
    maria.do("CREATE TABLE letter (letter_id int PRIMARY KEY, body text NOT NULL)")
    try:
        text = "concat('Buoy ', seq % 40, ' said ', md5(seq), repeat(' and all was well', 9))"
        maria.do(f"INSERT INTO letter SELECT seq, {text} FROM seq_1_to_30000")
        maria.do("ANALYZE TABLE letter")
        humble.ok("init", maria.url, "--role", "scratch")
        statement = "SELECT letter_id FROM letter WHERE body LIKE 'Buoy 17 said ff%'"
        (best,) = humble.json("propose", statement)["remedies"]
        key = re.fullmatch(r"CREATE INDEX \w+ ON letter \(body\((\d+)\)\);", best["apply"][0])
        assert key is not None and 16 <= int(key[1]) <= 24
        tried = humble.json("trial", statement, "--remedy", best["id"], "--pairs", "6")
        (mine,) = tried["queries"]
        assert mine["uses_change"] and mine["same_result"] and tried["left_behind"] == []
        assert 0.8 < best["size_bytes_predicted"] / tried["size_bytes"] < 1.25
    finally:
        maria.do("DROP TABLE letter")


def test_settings_of_a_session_are_tried_and_others_are_not(aimed: Program) -> None:
    query = aimed.query_with("GROUP BY b.buoy_id")
    for setting in ("sort_buffer_size=4194304", "optimizer_switch=derived_merge=off"):
        tried = aimed.json("trial", query, "--set", setting, "--pairs", "6")
        assert tried["way"] == "uncommitted-change" and tried["left_behind"] == []
    for setting in ("tx_read_only=0", "sql_log_bin=0", "long_query_time=1, GLOBAL read_only=1"):
        done = aimed.run("trial", query, "--set", setting)
        assert done.code in (2, 4, 5), (setting, done.out, done.err)
    assert "only" in aimed.fails(5, "trial", query, "--set", "tx_read_only=0")


def test_errors_say_what_to_do_next(humble: Program, maria: Maria) -> None:
    assert "Is the server running" in humble.fails(3, "init", "mariadb://x@127.0.0.1:1/skerry")
    assert "database" in humble.fails(2, "init", maria.url.replace("/skerry?", "/?"))
    missing = maria.url.replace("/skerry?", "/nowhere?")
    assert "database name" in humble.fails(3, "init", missing)
    humble.ok("init", maria.url)
    assert "doesn't exist" in humble.fails(4, "plan", "SELECT * FROM nowhere")
    assert "values" in humble.fails(4, "plan", "SELECT * FROM alert WHERE code = $1")
    grown = humble.fails(4, "suppose", "SELECT max(code) FROM alert", "--rows", "alert=10x")
    assert "counts entries" in grown


def test_no_rows_of_a_target_in_production_stay_on_this_machine(
    humble: Program, maria: Maria
) -> None:
    folder = Path(mkdtemp(prefix="humble-tests-", dir="/var/tmp"))
    folder.chmod(0o755)  # the server's user must get through
    sql = ("propose", "SELECT * FROM alert WHERE code = 'E-1417'")
    mine = {"HUMBLE_HOLLOWS": str(folder)}
    try:
        humble.ok("init", maria.url, "--role", "production")
        assert "it is not kept" in humble.run("hollow", "build", **mine).out
        assert humble.run(*sql, **mine).code == 0
        # Nobody said what role a target has that is given by its address alone.
        assert humble.run(*sql, "--target", maria.url, **mine).code == 0
        assert "No copy lies on this machine" in humble.run("hollow", "list", **mine).out
        toml = humble.folder / "humble.toml"
        toml.write_text(toml.read_text().replace('"production"', '"scratch"'))
        assert "it is not kept" not in humble.run("hollow", "build", **mine).out
        assert str(folder) in humble.run("hollow", "list", **mine).out
        assert "1 copy removed" in humble.run("hollow", "drop", **mine).out
    finally:
        shutil.rmtree(folder)
