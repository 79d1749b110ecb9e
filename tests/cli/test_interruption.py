"""Ctrl-C and kill -9 in the middle: no lock, no index, no server process, no half entry."""

from __future__ import annotations

import io
import os
import signal
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from rich.console import Console

from humble_ledger.core.remedies.choice.budget_text import parse_budget
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.remedies import remedies_view
from humble_ledger.workflow.configuration import find_configuration
from humble_ledger.workflow.proposing.choosing import Terms, choose_indexes
from humble_ledger.workflow.proposing.everything import propose
from humble_ledger.workflow.proposing.indexes import STOPPED
from humble_ledger.workflow.workspace import Workspace
from tests.conftest import Server, only_newest
from tests.engines.test_launcher import servers_of
from tests.program import PATIENCE_S, SENSOR, Program

# Whatever a trial could leave: our sessions, locks on the table, indexes of a trial.
OURS = """SELECT (SELECT count(*) FROM pg_stat_activity WHERE application_name LIKE 'humble%t_@%'),
    (SELECT count(*) FROM pg_locks WHERE relation = 'reading'::regclass),
    (SELECT count(*) FROM pg_class WHERE relname LIKE '%\\_\\_t%')"""
BUILDING = (
    "SELECT count(*) FROM pg_locks WHERE relation = 'reading'::regclass AND mode = 'ShareLock'"
)
NOTHING = [(0, 0, 0)]


def wait_for(server: Server, sql: str, wanted: list[tuple[object, ...]]) -> None:
    give_up = time.monotonic() + PATIENCE_S
    while server.fetch(sql) != wanted:
        assert time.monotonic() < give_up, server.fetch(sql)
        time.sleep(0.02)


def start_trial(begun: Program, server: Server, *more: str) -> subprocess.Popen[str]:
    query = begun.query_with(SENSOR)
    trial = begun.start("trial", query, "--index", "reading (quality)", "--pairs", "400", *more)
    wait_for(server, BUILDING, [(1,)])
    return trial


def test_kill_in_the_middle_of_a_trial_leaves_nothing_and_tidy_says_so(
    begun: Program, server: Server
) -> None:
    trial = start_trial(begun, server)
    trial.send_signal(signal.SIGSTOP)  # so that it cannot end before we have looked
    assert "running now" in begun.ok("tidy").out
    trial.kill()
    trial.wait()
    wait_for(server, OURS, NOTHING)
    assert begun.json("show", "t1")["status"] == "running"
    assert "broken off" in begun.ok("tidy", "--look").out
    tidied = begun.json("tidy")["trials"]
    assert [(t["trial"], t["found"], t["removed"]) for t in tidied] == [("t1", [], True)]
    assert begun.json("show", "t1")["status"] == "broken-off"
    assert "nothing to tidy" in begun.ok("tidy").out


def test_tidy_removes_what_a_killed_trial_had_built(begun: Program, server: Server) -> None:
    trial = start_trial(begun, server)
    trial.kill()
    trial.wait()
    wait_for(server, OURS, NOTHING)
    # As if the index had been built for good: the ledger knows its name from before.
    (name,) = begun_creations(begun)
    server.do(f'CREATE INDEX "{name}" ON reading (quality)')
    assert name in begun.ok("tidy").out
    assert server.fetch(f"SELECT count(*) FROM pg_class WHERE relname = '{name}'") == [(0,)]


@only_newest
def test_tidy_leaves_what_a_killed_settle_had_finished(begun: Program, server: Server) -> None:
    from humble_ledger.ledger.repository import Ledger  # noqa: PLC0415

    trial = begun.json("trial", "SELECT minutes FROM visit WHERE minutes = 77", "--index",
                       "visit (minutes)", "--pairs", "2")["id"]  # fmt: skip
    # As if "settle --apply" had been killed right after the index was built.
    with Ledger(Path(begun.folder / "humble.ledger")) as ledger:
        ledger.trials.keep_creation(trial, "public", "visit_minutes_idx")
    server.do("CREATE INDEX visit_minutes_idx ON visit (minutes)")
    there = "SELECT count(*) FROM pg_class WHERE relname = 'visit_minutes_idx'"
    try:
        begun.ok("tidy")
        assert server.fetch(there) == [(1,)], "it is what was decided"
        assert "nothing to tidy" in begun.ok("tidy").out
    finally:
        server.do("DROP INDEX IF EXISTS visit_minutes_idx")


def begun_creations(begun: Program) -> list[str]:
    from humble_ledger.ledger.repository import Ledger  # noqa: PLC0415

    with Ledger(Path(begun.folder / "humble.ledger")) as ledger:
        return [name for _, name in ledger.trials.get("t1").creations]


RUNNING = """SELECT query_start FROM pg_stat_activity
    WHERE application_name LIKE 'humble%t1@%' AND query LIKE 'SELECT taken_at%'"""


def wait_for_runs(server: Server, runs: int) -> None:
    """Until the trial was seen to run its query so many times."""
    seen: set[object] = set()
    give_up = time.monotonic() + PATIENCE_S
    while len(seen) < runs:
        assert time.monotonic() < give_up
        seen.update(start for (start,) in server.fetch(RUNNING))
        time.sleep(0.01)


@only_newest
@pytest.mark.parametrize("runs", [0, 20])
def test_ctrl_c_in_a_trial_keeps_the_pairs_and_leaves_nothing(
    begun: Program, server: Server, runs: int
) -> None:
    trial = start_trial(begun, server, "--effect", "0.1")
    wait_for_runs(server, runs)
    trial.send_signal(signal.SIGINT)
    out, err = trial.communicate(timeout=PATIENCE_S)
    assert "Traceback" not in err
    wait_for(server, OURS, NOTHING)
    status = begun.json("show", "t1")["status"]
    if trial.returncode == 0:
        assert status == "stopped"
        assert "stopped early" in out and "pairs" in out
    else:
        assert trial.returncode == 130
        assert status == "broken-off"
        assert len(err.splitlines()) <= 3
    if runs:
        assert status == "stopped", "after so many runs there are pairs to keep"


@only_newest
def test_ctrl_c_while_measuring_a_plan(begun: Program, server: Server) -> None:
    slow = begun.start("plan", "SELECT count(*), pg_sleep(7200) FROM reading", "--measure")
    wait_for(server, "SELECT count(*) FROM pg_stat_activity WHERE query LIKE '%pg_sleep(7200)%' "
             "AND state = 'active' AND pid <> pg_backend_pid()", [(1,)])  # fmt: skip
    slow.send_signal(signal.SIGINT)
    _, err = slow.communicate(timeout=PATIENCE_S)
    assert slow.returncode == 130
    assert "Traceback" not in err
    wait_for(server, "SELECT count(*) FROM pg_stat_activity WHERE query LIKE '%pg_sleep(7200)%' "
             "AND state = 'active' AND pid <> pg_backend_pid()", [(0,)])  # fmt: skip
    assert "p1" not in begun.ok("history").out


def of_another(folder: str, pid: int) -> bool:
    """Whether a server in this folder runs for somebody else than this process."""
    for entry in Path("/proc").iterdir():
        if not entry.name.isdigit():
            continue
        try:
            words = (entry / "cmdline").read_bytes().decode(errors="replace")
        except OSError:
            continue
        if folder in words and pid not in ancestors(int(entry.name)):
            return True
    return False


def ancestors(pid: int) -> list[int]:
    """The processes above a process, up to the first."""
    found = []
    while pid > 1:
        try:
            status = Path(f"/proc/{pid}/stat").read_text()
        except OSError:
            break
        pid = int(status.rpartition(")")[2].split()[1])
        found.append(pid)
    return found


@pytest.mark.parametrize(
    ("number", "seconds"), [(signal.SIGINT, 9.0), (signal.SIGKILL, 1.0), (signal.SIGKILL, 9.0)]
)
def test_a_demo_broken_off_leaves_no_server(humble: Program, number: int, seconds: float) -> None:
    demo = humble.start("demo", "--folder", "d")
    before = {str(f) for f in Path("/var/tmp").glob("humble-*")}
    time.sleep(seconds)
    new = [f for f in map(str, Path("/var/tmp").glob("humble-*")) if f not in before]
    mine = [folder for folder in new if not of_another(folder, demo.pid)]
    demo.send_signal(number)
    demo.wait(timeout=PATIENCE_S)
    for folder in mine:
        give_up = time.monotonic() + PATIENCE_S
        while servers_of(folder) or Path(folder).exists():
            assert time.monotonic() < give_up, servers_of(folder)
            time.sleep(0.1)


@pytest.fixture
def heeding_ctrl_c() -> Iterator[None]:
    """Tests that were started in the background ignore it otherwise."""
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    yield
    signal.signal(signal.SIGINT, before)


@only_newest
@pytest.mark.usefixtures("heeding_ctrl_c")
@pytest.mark.parametrize(
    ("at", "nth", "least_studied"), [("studying ", 2, 2), ("predicting ", 1, 5)]
)
def test_ctrl_c_in_propose_ends_with_what_is_known_by_then(
    begun: Program, server: Server, at: str, nth: int, least_studied: int
) -> None:
    heard: list[str] = []

    def progress(words: str) -> None:
        # The queries come by the time they took, so none is known to come before another.
        if words.startswith(at) and sum(w.startswith(at) for w in heard) == nth - 1:
            os.kill(os.getpid(), signal.SIGINT)
        heard.append(words)

    with Workspace(find_configuration(begun.folder)) as workspace:
        found = propose(workspace, (), progress)
    assert found.stopped_early
    late = [what for what, why in found.left_out if why == STOPPED]
    assert bool(late) == at.startswith("studying")
    assert sum(words.startswith("studying") for words in heard) >= least_studied
    # Nobody was asked any more after it, and a second Ctrl-C is again what it always was.
    after = heard[heard.index(next(w for w in heard if w.startswith("ending with"))) :]
    assert not [words for words in after if words.startswith(("predicting", "studying"))][1:]
    assert signal.getsignal(signal.SIGINT) is signal.default_int_handler
    shown = io.StringIO()
    Console(file=shown, width=200).print(remedies_view(found, Numbers()))
    said = " ".join(shown.getvalue().split())
    assert "Stopped early: this is what was predicted so far" in said


@only_newest
@pytest.mark.usefixtures("heeding_ctrl_c")
def test_ctrl_c_in_a_choice_chooses_among_what_is_known(begun: Program, server: Server) -> None:
    heard: list[str] = []

    def progress(words: str) -> None:
        heard.append(words)
        if sum(w.startswith("predicting") for w in heard) == 6 and words.startswith("predicting"):
            os.kill(os.getpid(), signal.SIGINT)

    with Workspace(find_configuration(begun.folder)) as workspace:
        found = choose_indexes(workspace, (), Terms(parse_budget(["60MB"])), progress)
    assert found.stopped_early and found.choice.at_least == 0.0
    assert sum(p.option.size_bytes for p in found.choice.picked) <= 60_000_000
    assert len(found.choice.picked) <= 6
