"""Logs that are torn, foreign or malicious: counted, shown with their place, and skipped."""

from __future__ import annotations

import gzip
import os
import random
from pathlib import Path

import pytest

from humble_ledger.ledger.repository import Ledger
from humble_ledger.workflow.capturing.logs import capture_logs
from humble_ledger.workflow.configuration import Configuration
from humble_ledger.workflow.workspace import Workspace
from tests.capture.test_files import log_lines
from tests.program import Program

GOOD = 6
HEAD = "2026-03-01 10:00:30.500 UTC [7] me@skerry/app "


@pytest.fixture
def with_ledger(humble: Program) -> Program:
    Ledger(humble.folder / "humble.ledger", create=True).close()
    return humble


HOSTILE = {
    "torn in the middle of a line": HEAD.encode() + b"LOG:  duration: 1.5 ms  sta\n",
    "torn in the middle of a head": b"2026-03-01 10:0\n",
    "noise": random.Random(7).randbytes(20_000).replace(b"\n", b"?") + b"\n",
    "NUL bytes": b"\x00" * 300 + b"\n",
    "another encoding": HEAD.encode() + "ERROR:  Spalte \"größe\"\n".encode("latin-1"),
    "UTF-16": "another program".encode("utf-16") + b"\n",
    "another program": b'127.0.0.1 - - [01/Mar/2026:10:00:00] "GET / HTTP/1.1" 200 17\n' * 50,
    "an empty statement": f"{HEAD}LOG:  duration: 1.5 ms  statement: \n".encode(),
    "a duration that is none": f"{HEAD}LOG:  duration: soon ms  statement: SELECT 1\n".encode(),
    "a duration of minus": f"{HEAD}LOG:  duration: -5.0 ms  statement: BEGIN\n".encode(),
    "endless brackets": f"{HEAD}LOG:  duration: 1 ms  plan: {'(' * 50_000}\n".encode(),
    "a plan of braces": f"{HEAD}LOG:  duration: 1 ms  plan:\n\t{'{' * 50_000}\n".encode(),
    "a head without an end": (HEAD + "x@" * 40_000 + "\n").encode(),
    "carriage returns": b"\r" * 5000 + b"\r\n",
    "our own mark": "\ue000\ue001".encode() + b"\n",
}  # fmt: skip


@pytest.mark.parametrize("junk", HOSTILE.values(), ids=HOSTILE.keys())
@pytest.mark.parametrize("packed", [False, True], ids=["plain", "gz"])
def test_what_is_around_junk_is_kept(tmp_path: Path, junk: bytes, packed: bool) -> None:
    content = log_lines(0, 3).encode() + junk + log_lines(3, GOOD).encode()
    path = tmp_path / ("a.log.gz" if packed else "a.log")
    path.write_bytes(gzip.compress(content) if packed else content)
    Ledger(tmp_path / "l", create=True).close()
    with Workspace(Configuration(tmp_path, tmp_path / "l")) as workspace:
        done = capture_logs(workspace, [path])
        assert (done.kept, done.queries) == (GOOD, 1)
        if done.passed_over.get("unreadable line"):
            assert done.first_unreadable.startswith(f"{path.name}, line 4")
        assert capture_logs(workspace, [path]).kept == 0


def test_a_statement_with_odd_bytes_is_kept(with_ledger: Program) -> None:
    content = f"{HEAD}LOG:  duration: 1.5 ms  statement: SELECT 'A\x00\ue000B' AS a\n".encode()
    (with_ledger.folder / "a.log").write_bytes(content + b"\xff" + log_lines(0, 1).encode())
    done = with_ledger.json("capture", "log", "a.log")
    assert done["kept_runs"] == 1
    assert "\ufffd" in with_ledger.json("show", "q1")["runs"][0]["statement"]


def test_a_prefix_that_lies_is_told_and_the_log_read_all_the_same(with_ledger: Program) -> None:
    (with_ledger.folder / "a.log").write_text(log_lines(0, GOOD))
    done = with_ledger.json("capture", "log", "a.log", "--prefix", "%t <%d> [%p] ")
    assert done["kept_runs"] == GOOD
    assert any("does not fit" in reason for reason in done["passed_over"])


def test_a_place_is_counted_in_its_own_log(with_ledger: Program) -> None:
    good, odd = with_ledger.folder / "a.log", with_ledger.folder / "b.log"
    good.write_text(log_lines(0, 5))
    odd.write_text(log_lines(5, 7) + "what is this\n")
    os.utime(good, (1, 1))
    done = with_ledger.json("capture", "log", "a.log", "b.log")
    assert done["first_unreadable"] == "b.log, line 3"
    with odd.open("a") as file:
        file.write(log_lines(7, 8) + "and this\n")
    again = with_ledger.json("capture", "log", "b.log")
    assert again["first_unreadable"].startswith("b.log, line 2 counted from byte")


@pytest.mark.parametrize("plan", ['{"Plan": 7}', '{"Plan": {"Plans": [3]}}', '{"Plan": {"a": 1}}'])
def test_a_logged_plan_that_is_none_loses_nothing(tmp_path: Path, plan: str) -> None:
    said = f"{HEAD}LOG:  duration: 1.0 ms  plan:\n\t{plan}\n"
    (tmp_path / "a.log").write_text(log_lines(0, 3) + said + log_lines(3, GOOD))
    Ledger(tmp_path / "l", create=True).close()
    with Workspace(Configuration(tmp_path, tmp_path / "l")) as workspace:
        assert capture_logs(workspace, [tmp_path / "a.log"]).kept >= GOOD


def test_a_clock_that_goes_back(with_ledger: Program) -> None:
    content = log_lines(30, 36) + log_lines(0, 6)
    (with_ledger.folder / "a.log").write_text(content)
    done = with_ledger.json("capture", "log", "a.log")
    assert done["kept_runs"] == 12
    assert done["first_run"] < done["last_run"]


def test_a_statement_of_a_hundred_megabytes(with_ledger: Program) -> None:
    path = with_ledger.folder / "a.log"
    with path.open("w") as file:
        file.write(log_lines(0, 3))
        file.write(f"{HEAD}LOG:  duration: 9.5 ms  statement: INSERT INTO t VALUES ('")
        for _ in range(100):
            file.write("x" * 1_000_000)
        file.write(f"')\n{HEAD}LOG:  duration: 9.5 ms  statement: SELECT '{'y' * 2_000_000}'\n")
        file.write(log_lines(3, GOOD))
    done = with_ledger.json("capture", "log", "a.log")
    assert done["kept_runs"] == GOOD
    assert done["passed_over"]["statement of more than 1 MiB"] == 2
    assert done["first_unreadable"].startswith("a.log, byte")


def test_a_csv_log_that_is_torn_inside_quotes(with_ledger: Program) -> None:
    fields = ["2026-03-01 10:00:00.500 UTC", "me", "skerry", "7", *[""] * 7, "LOG", "00000",
              '"duration: 1.5 ms  statement: SELECT 1"', *[""] * 8, "app", "client"]  # fmt: skip
    line = ",".join(fields) + "\n"
    torn = line.replace('SELECT 1"', "SELECT 2 FROM\n")
    (with_ledger.folder / "a.csv").write_text(line * 3 + torn)
    assert with_ledger.json("capture", "log", "a.csv")["kept_runs"] in (3, 4)


def test_a_missing_file_loses_nothing_of_the_others(with_ledger: Program) -> None:
    Path(with_ledger.folder / "a.log").write_text(log_lines(0, GOOD))
    assert "b.log" in with_ledger.fails(4, "capture", "log", "a.log", "b.log")
    assert with_ledger.json("capture", "log", "a.log")["kept_runs"] == GOOD


def test_stopping_before_anything_was_kept_loses_nothing(tmp_path: Path) -> None:
    plan = '{"Query Text": "SELECT 9 FROM u", "Plan": {"Node Type": "Result"}}'
    said = f"{HEAD}LOG:  duration: 1.0 ms  plan:\n\t{plan}\n" * 2
    loop = log_lines(0, 3) * 30
    (tmp_path / "a.log").write_text(loop + said + log_lines(3, GOOD))
    Ledger(tmp_path / "l", create=True).close()

    def stop(_: str) -> None:
        raise KeyboardInterrupt

    with Workspace(Configuration(tmp_path, tmp_path / "l")) as workspace:
        with pytest.raises(KeyboardInterrupt):
            capture_logs(workspace, [tmp_path / "a.log"], progress=stop)
        assert workspace.ledger.captures.get("k1").status == "stopped"
        assert capture_logs(workspace, [tmp_path / "a.log"]).kept == 90 + 2 + GOOD - 3
