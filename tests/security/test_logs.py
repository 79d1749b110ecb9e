"""Logs that strangers write into: nothing counted twice, nothing lost, nothing that stops us."""

from __future__ import annotations

import gzip
import json
import lzma
import os
import subprocess
import threading
import time
from pathlib import Path

import pytest

from humble_ledger.ledger.repository import Ledger
from tests.program import HUMBLE, Program

HEAD = "2026-03-01 10:00:30.500 UTC [7] me@skerry/app "
BEFORE, AFTER = 3, 4


@pytest.fixture
def with_ledger(humble: Program) -> Program:
    Ledger(humble.folder / "humble.ledger", create=True).close()
    return humble


def plain(
    number: int, sql: str = "SELECT * FROM buoy WHERE buoy_id = 7", ms: str = "12.500"
) -> str:
    return (
        f"2026-03-01 10:{number // 60 % 60:02}:{number % 60:02}.250 UTC [7] me@skerry/app "
        f"LOG:  duration: {ms} ms  statement: {sql}\n"
    )


def structured(number: int, message: str, **more: object) -> str:
    entry = {"timestamp": f"2026-03-01 10:00:{number % 60:02}.250 UTC", "user": "me", "pid": 7,
             "dbname": "skerry", "application_name": "app", "error_severity": "LOG",
             "message": message, **more}  # fmt: skip
    return json.dumps(entry) + "\n"


ODD_PLAIN = {
    "nan": plain(5, ms="nan"),
    "infinite": plain(5, ms="inf"),
    "four hundred digits": plain(5, ms="9" * 400 + ".0"),
    "minus": plain(5, ms="-1.0"),
    "of a thousand years": plain(5, ms="1" * 16 + ".0"),
    "day that is none": f"2026-13-77 99:99:99 UTC [7] LOG:  duration: {'1' * 30}.0 ms  statement: x\n",
    "year 1": "0001-01-01 00:00:00 UTC [7] me@skerry/app LOG:  duration: 1.0 ms  statement: x\n",
    "statement of two MB": plain(5, "SELECT '" + "x" * 2_000_000 + "'"),
    "parameters beyond number": plain(5, "SELECT $1")
    + HEAD + "DETAIL:  parameters: $1 = 'a', $999999999999 = 'b'\n",
    "parameter of 5,000 digits": plain(5, "SELECT $1")
    + HEAD + f"DETAIL:  parameters: $1 = 'a', ${'9' * 5000} = 'b'\n",
    "execute of nothing": plain(5, "EXECUTE") + HEAD + "DETAIL:  prepare: \n",
    "execute that breaks off": plain(5, "EXECUTE a(") + HEAD + "DETAIL:  prepare: PREPARE a AS\n",
    "temporary file": HEAD + f"LOG:  temporary file: path \"x\", size {'9' * 500}\n",
    "plan that is deep": HEAD + "LOG:  duration: 1.0 ms  plan:\n\t"
    + '{"Query Text": "x", "Plan": ' + '{"Plans":[' * 9000 + "1" + "]}" * 9000 + "}\n",
    "lone escape codes": HEAD + "LOG:  \x1b[2J\x9b\x00\u2028 duration: 1.0 ms\n",
    "half a character": HEAD + "LOG:  duration: 1.0 ms  statement: SELECT '\udcff'\n",
}  # fmt: skip
ODD_JSON = {
    "nesting": '{"error_severity":"LOG","message":"x","deep":' + "[" * 5000 + "]" * 5000 + "}\n",
    "nesting without an end": '{"a":' * 5000 + "\n",
    "process number": structured(5, "duration: 1.0 ms  statement: x", pid=10**400),
    "wrong types": structured(5, "x", user=7, dbname=[], timestamp={}),
    "half a character": '{"error_severity":"LOG","message":"\\ud800"}\n',
    "nan": structured(5, "duration: nan ms  statement: SELECT 1"),
    "epoch": structured(5, "duration: 1.0 ms  statement: SELECT 1", timestamp="9" * 40 + ".5"),
    "twice a key": '{"message":"a","message":"duration: 1.0 ms  statement: x","pid":1}\n',
}


@pytest.mark.parametrize("name", ODD_PLAIN)
def test_odd_entries_of_a_plain_log_lose_no_neighbour(with_ledger: Program, name: str) -> None:
    content = "".join(plain(n) for n in range(BEFORE)) + ODD_PLAIN[name]
    content += "".join(plain(10 + n) for n in range(AFTER))
    path = with_ledger.folder / "a.log"
    path.write_bytes(content.encode("utf-8", "surrogateescape"))
    done = with_ledger.json("capture", "log", "a.log")
    assert done["kept_runs"] >= BEFORE + AFTER
    rows = with_ledger.json("queries")["queries"]
    (found,) = [row for row in rows if "buoy_id" in row["text"]]
    assert found["calls"] in (BEFORE + AFTER, BEFORE + AFTER + 1)
    assert found["total_ms"] < 1e13


def test_what_cannot_be_a_duration_is_told(with_ledger: Program) -> None:
    content = "".join(plain(n) for n in range(3)) + plain(5, ms="9" * 400 + ".0")
    (with_ledger.folder / "a.log").write_text(content)
    done = with_ledger.json("capture", "log", "a.log")
    assert done["passed_over"]["duration that cannot be one"] == 1
    content = "".join(plain(n) for n in range(3)) + plain(5, "SELECT '" + "x" * 2_000_000 + "'")
    (with_ledger.folder / "b.log").write_text("-- another\n" + content)
    done = with_ledger.json("capture", "log", "b.log")
    assert done["passed_over"]["statement of more than 1 MiB"] == 1
    assert done["first_unreadable"] == "b.log, line 1"
    (with_ledger.folder / "c.log").write_text(content + "\n")
    done = with_ledger.json("capture", "log", "c.log", "--again")
    assert done["first_unreadable"] == "c.log, line 4"


@pytest.mark.parametrize("name", ODD_JSON)
def test_odd_entries_of_a_json_log_lose_no_neighbour(with_ledger: Program, name: str) -> None:
    said = "duration: 12.5 ms  statement: SELECT * FROM buoy WHERE buoy_id = 7"
    content = "".join(structured(n, said) for n in range(BEFORE)) + ODD_JSON[name]
    content += "".join(structured(10 + n, said) for n in range(AFTER))
    (with_ledger.folder / "a.json").write_text(content)
    assert with_ledger.json("capture", "log", "a.json")["kept_runs"] >= BEFORE + AFTER


PACKED = {
    "text called .gz": ("a.log.gz", lambda text: text),
    "text called .zst": ("a.log.zst", lambda text: text),
    "gzip called .log": ("a.log", gzip.compress),
    "xz called .gz": ("a.log.gz", lzma.compress),
    "with a byte order mark": ("a.log", lambda text: b"\xef\xbb\xbf" + text),
    "UTF-16": ("a.log", lambda text: text.decode().encode("utf-16")),
    "UTF-16 the other way": ("a.log", lambda text: b"\xfe\xff" + text.decode().encode("utf-16-be")),
    "with carriage returns": ("a.log", lambda text: text.replace(b"\n", b"\r\n")),
}


@pytest.mark.parametrize("name", PACKED)
def test_a_log_is_read_by_what_it_is(with_ledger: Program, name: str) -> None:
    called, pack = PACKED[name]
    content = "".join(plain(n) for n in range(30)).encode()
    (with_ledger.folder / called).write_bytes(pack(content))
    assert with_ledger.json("capture", "log", called)["kept_runs"] == 30
    assert with_ledger.json("capture", "log", called)["kept_runs"] == 0


def test_a_gzip_that_is_none_inside_is_told(with_ledger: Program) -> None:
    content = gzip.compress("".join(plain(n) for n in range(30)).encode())
    (with_ledger.folder / "a.gz").write_bytes(content[:40] + os.urandom(200))
    done = with_ledger.run("capture", "log", "a.gz")
    assert done.code in (0, 4) and "Traceback" not in done.err


def test_a_pipe_is_read_to_its_end_and_once(with_ledger: Program) -> None:
    pipe = with_ledger.folder / "pipe"
    os.mkfifo(pipe)
    content = "".join(plain(n) for n in range(5000))
    thread = threading.Thread(target=lambda: pipe.write_text(content))
    thread.start()
    assert with_ledger.json("capture", "log", "pipe")["kept_runs"] == 5000
    thread.join()


def test_execute_is_the_statement_that_was_prepared(with_ledger: Program) -> None:
    prepared = "PREPARE near (int, text) AS SELECT * FROM buoy WHERE region_id = $1 AND name = $2;"
    lines = ""
    for number in range(4):
        lines += plain(number, f"EXECUTE near({number}, 'it''s {number}')")
        lines += HEAD + f"DETAIL:  prepare: {prepared}\n"
    lines += plain(9, "EXECUTE near(1 + 1, now())") + HEAD + f"DETAIL:  prepare: {prepared}\n"
    (with_ledger.folder / "a.log").write_text(lines)
    assert with_ledger.json("capture", "log", "a.log")["kept_runs"] == 5
    (row,) = with_ledger.json("queries")["queries"]
    assert row["text"] == "SELECT * FROM buoy WHERE region_id = $1 AND name = $2"
    assert row["calls"] == 5
    shown = with_ledger.ok("show", row["id"]).out
    assert "it's" in shown
    said = structured(
        1, "duration: 3.5 ms  statement: EXECUTE near(5, 'x')", detail=f"prepare: {prepared}"
    )
    (with_ledger.folder / "b.json").write_text(said)
    with_ledger.ok("capture", "log", "b.json")
    (row,) = with_ledger.json("queries")["queries"]
    assert row["calls"] == 6


def test_several_captures_of_one_log_at_once_count_it_once(with_ledger: Program) -> None:
    path = with_ledger.folder / "a.log"
    path.write_text("".join(plain(n) for n in range(30_000)))

    def at_once() -> list[int]:
        started = [
            subprocess.Popen(
                [HUMBLE, "capture", "log", "a.log"], cwd=with_ledger.folder,
                env=with_ledger.environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            )
            for _ in range(4)
        ]  # fmt: skip
        return [each.wait(120) for each in started]

    codes = at_once()
    assert set(codes) <= {0, 6}, codes
    with_ledger.run("capture", "log", "a.log")
    assert calls(with_ledger) == 30_000
    with path.open("a") as file:
        file.write("".join(plain(n) for n in range(2_000)))
    assert set(at_once()) <= {0, 6}
    with_ledger.run("capture", "log", "a.log")
    assert calls(with_ledger) == 32_000


def calls(program: Program) -> int:
    return sum(row["calls"] for row in program.json("queries")["queries"])


def test_a_prefix_of_nothing_but_names_does_not_take_for_ever(with_ledger: Program) -> None:
    line = "x@/" * 200 + " LOG: duration: 1.0 ms  statement: SELECT 1\n"
    (with_ledger.folder / "a.log").write_text(line * 300)
    began = time.process_time()
    done = with_ledger.run("capture", "log", "a.log", "--prefix", "%u%d%a%h%b%r ")
    assert done.code in (0, 4), done.err
    assert time.process_time() - began < 60  # it took hours


def test_a_folder_and_a_missing_file_are_told(with_ledger: Program, tmp_path: Path) -> None:
    (with_ledger.folder / "folder").mkdir()
    assert "folder" in with_ledger.fails(4, "capture", "log", "folder")
    assert "gone.log" in with_ledger.fails(4, "capture", "log", "gone.log")
