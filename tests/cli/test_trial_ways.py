"""The ways a trial goes by, what they mean for others on the server, and that nothing is left."""

from __future__ import annotations

import os
import signal
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import psycopg
import pytest

from humble_ledger.engines.postgresql.launcher import Cluster
from tests.cli.test_interruption import wait_for
from tests.conftest import FOUND, NEEDED_MAJOR, Server, clean_environment, only_newest, only_oldest
from tests.program import PATIENCE_S, SENSOR, Program

LEFT = """SELECT (SELECT count(*) FROM pg_class), (SELECT count(*) FROM pg_index WHERE indisvalid),
    (SELECT count(*) FROM pg_statistic_ext), pg_database_size(current_database()) / 131072"""
INDEX = ("--index", "alert (code)")
SLOW = "SELECT alert_id FROM alert WHERE code = 'E-1417'"


def on_production(program: Program) -> None:
    file = program.folder / "humble.toml"
    file.write_text(file.read_text().replace('"scratch"', '"production"'))


@contextmanager
def writing(server: Server, sql: str, lock_timeout: str = "300ms") -> Iterator[Callable[[], int]]:
    """Somebody who writes all the time and gives up when made to wait; how often they wrote."""
    over, done, failed = threading.Event(), [0], []

    def write() -> None:
        with psycopg.connect(server.url, autocommit=True) as connection:
            connection.execute(f"SET lock_timeout = '{lock_timeout}'".encode())
            while not over.wait(0.005):
                try:
                    connection.execute(sql.encode())
                    done[0] += 1
                except psycopg.Error as error:
                    failed.append(str(error))
                    return

    thread = threading.Thread(target=write)
    thread.start()
    try:
        yield lambda: done[0]
    finally:
        over.set()
        thread.join()
    assert not failed, failed


@only_newest
def test_on_production_an_index_is_tried_online_and_no_writer_waits(
    begun: Program, server: Server
) -> None:
    before = server.fetch(LEFT)
    on_production(begun)
    assert "--on-production" in begun.fails(5, "trial", SLOW, *INDEX)
    with writing(server, "UPDATE alert SET status = status WHERE alert_id = 17") as written:
        done = begun.run("trial", SLOW, *INDEX, "--on-production", "--pairs", "12", "--json")
        assert done.code == 0, done.err
        assert written() > 20
    assert "online" in done.err and "writers do not wait" in done.err
    trial = done.json
    assert (trial["way"], trial["verdict"]) == ("online-index", "faster")
    assert trial["queries"][0]["uses_change"] and trial["queries"][0]["same_result"]
    assert trial["write_overhead"][0]["unknown"] and trial["left_behind"] == []
    assert server.fetch(LEFT)[0][:3] == before[0][:3]
    told = begun.ok("show", trial["id"]).out
    assert "in three stages" in told and "on a production server writers must not wait" in told
    removal = ("--apply", "DROP INDEX reading_buoy", "--revert", "SELECT 1")
    assert "is not tried there" in begun.fails(5, "trial", SLOW, *removal, "--on-production")
    update = "UPDATE alert SET code = 'x' WHERE alert_id = 1"
    assert "not run there" in begun.fails(
        5, "trial", update, *INDEX, "--on-production", "--allow-writes"
    )


@only_oldest
def test_a_trial_gives_way_to_a_writer_who_waits_for_it(begun: Program, server: Server) -> None:
    """The uncommitted index locks writers out; one who waits 2 s gets the table."""
    before = server.fetch(LEFT)
    with writing(server, "UPDATE alert SET status = status WHERE alert_id = 17", "6s") as written:
        query = "SELECT count(*), max(message) FROM alert WHERE kind <> cause"
        trial = begun.json("trial", query, *INDEX, "--pairs", "120", "--effect", "0.1")
        assert written() > 20
    # Which of the two comes first is a matter of moments: the waiting, or the rows it changed.
    assert trial["way"] == "online-index"
    assert any(why in trial["why_this_way"] for why in ("had waited", "older transactions"))
    assert trial["queries"][0]["ratio"]["pairs"] >= 60 and trial["left_behind"] == []
    assert server.fetch(LEFT)[0][:3] == before[0][:3]


@only_newest
def test_statements_that_write_are_tried_in_stages_and_undone(
    begun: Program, server: Server
) -> None:
    before = server.fetch(LEFT)
    data = "SELECT count(*), sum(minutes), md5(string_agg(visit_id || ' ' || minutes, ',' " \
        "ORDER BY visit_id)) FROM visit"  # fmt: skip
    rows = server.fetch(data)
    sql = "UPDATE visit SET minutes = minutes + 1 WHERE minutes = 77 RETURNING visit_id"
    assert "--allow-writes" in begun.fails(5, "trial", sql, "--index", "visit (minutes)")
    # Which twelve, it leaves open; by the index they are those of the fewest minutes.
    some = "SELECT visit_id, minutes FROM visit WHERE minutes < 60 AND keeper_id > 3 LIMIT 12"
    trial = begun.json("trial", sql, some, "--index", "visit (minutes)", "--allow-writes",
                       "--pairs", "12")  # fmt: skip
    tried, limited = trial["queries"]
    assert limited["same_result"] and limited["uses_change"]
    assert "in no order" in limited["result_note"]
    assert trial["way"] == "stages-in-transaction"
    assert tried["same_result"] and "rows changed on both sides" in tried["result_note"]
    assert tried["uses_change"] and tried["verdict"] in ("faster", "lighter", "undecided")
    set_ = begun.json("trial", sql, "--set", "enable_seqscan=off", "--allow-writes",
                      "--pairs", "6")  # fmt: skip
    assert set_["way"] == "uncommitted-change" and set_["queries"][0]["same_result"]
    assert server.fetch(data) == rows
    assert server.fetch(LEFT)[0][:3] == before[0][:3]


@only_newest
def test_where_nothing_may_be_built_it_is_not_tried_and_said_so(
    begun: Program, server: Server
) -> None:
    server.do("CREATE ROLE looker LOGIN; GRANT SELECT ON ALL TABLES IN SCHEMA public TO looker")
    try:
        url = server.url.replace("//humble@", "//looker@")
        query = begun.query_with(SENSOR)
        index = ("--index", "reading (sensor_id, taken_at)")
        trial = begun.json("trial", query, *index, "--target", url)
        assert (trial["status"], trial["verdict"]) == ("not-tried", None)
        assert "owner" in trial["not_tried"] and trial["queries"] == []
        (predicted,) = trial["predicted"]
        assert predicted["cost_predicted"] < predicted["cost_before"] / 10
        assert "not tried: only the owner" in " ".join(begun.ok("history").out.split())
        assert "nothing was measured" in begun.ok("show", trial["id"]).out
        really = begun.json("trial", query, *index, "--pairs", "6")["queries"][0]["after"]["cost"]
        assert predicted["cost_predicted"] == pytest.approx(really, rel=0.1)
    finally:
        server.do("DROP OWNED BY looker; DROP ROLE looker")


@only_newest
def test_each_index_of_several_has_its_part_and_its_write_overhead(
    begun: Program, server: Server
) -> None:
    query = begun.query_with(SENSOR)
    trial = begun.json("trial", query, "--index", "reading (sensor_id, taken_at)",
                       "--index", "reading (quality)", "--pairs", "6")  # fmt: skip
    parts = {part["used"]: part for part in trial["parts"]}
    assert parts[True]["verdict"] == "faster" and parts[True]["ratio"]["high"] < 0.5
    assert parts[True]["cost_without"] > 10 * parts[True]["cost_with_all"]
    assert parts[False]["ratio"] is None and parts[False]["verdict"] == "no-difference"
    # Both together were predicted before they were built, with the values they were run with.
    (checked,) = begun.json("history", "--predictions")["predictions"]
    assert checked["remedy"] == " + ".join(trial["remedies"]) and checked["query"] == query
    assert checked["ratio"] == pytest.approx(1.0, abs=0.1)
    for cost in trial["write_overhead"]:
        writes = {write["operation"]: write for write in cost["writes"]}
        assert set(writes) == {"insert", "update", "delete"} and cost["batch_rows"] == 1000
        assert min(writes["insert"]["with_ms"], writes["insert"]["without_ms"]) > 0
        assert writes["insert"]["ratio"]["high"] > 1, "no index makes inserting quicker"
    (tried,) = trial["queries"]
    assert tried["after"]["table_pages"]["reading"] < tried["before"]["table_pages"]["reading"] / 5
    assert tried["before"]["planning_ms"] > 0 and tried["before"]["process_ms"] > 0
    # The values of its slowest run, and usual ones.
    (other,) = tried["other_values"]
    assert other["verdict"] == "faster" and tried["values"] != other["values"]
    told = begun.ok("show", trial["id"]).out
    assert "makes it faster" in told and "is not used" in told and "insert 1,000 rows" in told
    one = begun.json("trial", query, "--index", "reading (quality)", "--pairs", "2",
                     "--slowest-only")  # fmt: skip
    assert one["queries"][0]["other_values"] == [] and one["parts"] == []


@only_newest
def test_two_users_trials_at_once_tell_of_each_other(
    begun: Program, server: Server, tmp_path_factory: pytest.TempPathFactory
) -> None:
    other = Program(tmp_path_factory.mktemp("other"), clean_environment())
    other.ok("init", server.url, "--role", "scratch")
    busy = other.start("trial", "SELECT count(*) FROM reading", "--index", "alert (kind)",
                       "--pairs", "400", "--effect", "0.1")  # fmt: skip
    wait_for(server, "SELECT count(*) > 0 FROM pg_stat_activity WHERE application_name LIKE "
             "'humble-ledger t1@%'", [(True,)])  # fmt: skip
    trial = begun.json("trial", SLOW, *INDEX, "--pairs", "6")
    busy.send_signal(signal.SIGINT)
    busy.communicate(timeout=PATIENCE_S)
    assert trial["verdict"] == "faster" and trial["queries"][0]["same_result"]
    assert len(trial["disturbed_by"]) == 1 and trial["disturbed_by"][0].startswith("t1@")
    assert "measured on this database, too" in begun.ok("show", trial["id"]).out
    alone = begun.json("trial", SLOW, *INDEX, "--pairs", "2")
    assert alone["disturbed_by"] == []


OURS = (
    """SELECT count(*) FROM pg_stat_activity WHERE application_name ~ '^humble-ledger t[0-9]+@'"""
)
BUILT = "SELECT count(*) > 0 FROM pg_class WHERE relname LIKE 'much\\_%\\_\\_t%'"


@pytest.fixture
def small(tmp_path: Path) -> Iterator[Server]:
    """A server of its own, with one table, for tests that break it."""
    with Cluster(FOUND[NEEDED_MAJOR]) as cluster:
        server = Server(cluster.url("postgres"), cluster.log, NEEDED_MAJOR, FOUND[NEEDED_MAJOR])
        server.do("CREATE TABLE much AS SELECT n, n % 1000 AS a FROM generate_series(1, 200000) n")
        server.do("VACUUM ANALYZE much")
        yield server


WAYS = {
    "uncommitted": ("trial", "SELECT count(*) FROM much WHERE a = 7"),
    "online": ("trial", "SELECT count(*) FROM much WHERE a = 7", "--on-production"),
    "stages": ("trial", "UPDATE much SET n = n WHERE a = 7", "--allow-writes"),
}
ENDINGS = ("Ctrl-C", "kill -9", "sessions ended", "server crash")


def test_nothing_is_left_however_a_trial_ends(humble: Program, small: Server) -> None:
    humble.ok("init", small.url, "--role", "scratch")
    before = small.fetch(LEFT)
    index = ("--index", "much (a)", "--effect", "0.1", "--pairs", "400")
    for way, words in WAYS.items():
        file = humble.folder / "humble.toml"
        role = '"production"' if way == "online" else '"scratch"'
        other = '"scratch"' if way == "online" else '"production"'
        file.write_text(file.read_text().replace(other, role))
        for ending in ENDINGS if way == "uncommitted" else ENDINGS[:2]:
            trial = humble.start(*words, *index)
            # Uncommitted ones are seen by nobody else; their sessions are.
            seen, wanted = (BUILT, True) if way == "online" else (OURS, 2 if way != "stages" else 1)
            give_up = time.monotonic() + PATIENCE_S
            while small.fetch(seen)[0][0] < wanted:
                assert time.monotonic() < give_up and trial.poll() is None, (way, ending)
                time.sleep(0.02)
            time.sleep(0.5)
            _end(trial.pid, small, ending)
            out, err = trial.communicate(timeout=PATIENCE_S)
            assert "Traceback" not in err, (way, ending, err)
            _until_answering(small)
            wait_for(small, OURS, [(0,)])
            told = humble.ok("tidy").out
            # A server that crashes leaves the file of an unfinished index to nobody, and rows
            # whose change was taken back wait for a vacuum; the catalogue is the same.
            known = 3 if ending == "server crash" or way == "stages" else 4
            found = small.fetch(LEFT)[0][:known]
            assert found == before[0][:known], (way, ending, told, out, err)
            before = small.fetch(LEFT)
            assert "nothing to tidy" in humble.ok("tidy").out, (way, ending)


def _end(pid: int, server: Server, ending: str) -> None:
    ours = "FROM pg_stat_activity WHERE application_name ~ '^humble-ledger t[0-9]+@'"
    if ending == "server crash":
        # One of its processes dies hard; the server ends all sessions and recovers.
        (backend,) = server.fetch(f"SELECT min(pid) {ours}")[0]
        os.kill(int(str(backend)), signal.SIGKILL)
    elif ending == "sessions ended":
        # So does a server that is told to restart.
        server.do(f"SELECT pg_terminate_backend(pid) {ours}")
    else:
        os.kill(pid, signal.SIGINT if ending == "Ctrl-C" else signal.SIGKILL)


def _until_answering(server: Server) -> None:
    give_up = time.monotonic() + PATIENCE_S
    while True:
        try:
            server.fetch("SELECT 1")
            return
        except psycopg.Error:
            assert time.monotonic() < give_up
            time.sleep(0.1)


def test_nothing_is_left_after_errors_and_time_outs(humble: Program, small: Server) -> None:
    humble.ok("init", small.url, "--role", "scratch")
    before = small.fetch(LEFT)
    endless = "SELECT count(*), pg_sleep(1.6) FROM much WHERE a = 7"
    failing = "SELECT 1 / (a - 7) FROM much WHERE a = 7"
    for way in ((), ("--allow-writes",)):
        ended = humble.run("trial", endless, "--index", "much (a)", "--timeout", "0.8",
                           "--pairs", "6", *way)  # fmt: skip
        assert ended.code == 0, ended.err
        humble.fails(4, "trial", failing, "--index", "much (a)", *way)
        wait_for(small, OURS, [(0,)])
        assert small.fetch(LEFT) == before
    assert "nothing to tidy" in humble.ok("tidy").out


def test_what_nobody_can_take_back_is_told(humble: Program, small: Server) -> None:
    small.do("CREATE ROLE owner LOGIN; GRANT ALL ON SCHEMA public TO owner;"
             "ALTER TABLE much OWNER TO owner; INSERT INTO much SELECT 7, 7 FROM "
             "generate_series(1, 500)")  # fmt: skip
    counted = "SELECT n_mod_since_analyze FROM pg_stat_user_tables WHERE relname = 'much'"
    wait_for(small, counted, [(500,)])
    words = ("trial", "SELECT count(*) FROM much WHERE a = 7", "--apply", "ANALYZE much",
             "--revert", "SELECT 1", "--pairs", "2")  # fmt: skip
    humble.ok("init", small.url, "--role", "scratch")
    trial = humble.json(*words)
    assert trial["stays"] == [] and small.fetch(counted) == [(500,)]
    owner = small.url.replace("//humble@", "//owner@")
    trial = humble.json(*words, "--target", owner)
    assert "in the server's counters" in trial["stays"][0] and trial["left_behind"] == []
    assert "statistics are as before" in " ".join(humble.ok("show", trial["id"]).out.split())
    # Whoever is no superuser can hide no index: of several the parts stay unknown.
    several = humble.json("trial", "SELECT count(*) FROM much WHERE a = 7", "--target", owner,
                          "--index", "much (a)", "--index", "much (n)", "--pairs", "6")  # fmt: skip
    used = next(part for part in several["parts"] if part["used"])
    assert used["ratio"] is None and used["verdict"] == "undecided"
    assert "its part is unknown" in humble.ok("show", several["id"]).out
