"""The ledger: whatever happens to its file or to us, it is whole, or the message says what is not."""

from __future__ import annotations

import os
import random
import resource
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

import pytest

from humble_ledger.ledger.repository import Ledger
from tests.program import HUMBLE, PATIENCE_S, Program
from tests.security.test_logs import calls, plain

RUNS = 3_000
KILLS = int(os.environ.get("HUMBLE_KILLS", "4"))
READING = (
    ("history",),
    ("queries",),
    ("show", "q1"),
    ("show", "k1"),
    ("capture", "log", "a.log", "--again"),
)


@pytest.fixture
def kept(humble: Program) -> Program:
    """A ledger with one log captured."""
    Ledger(humble.folder / "humble.ledger", create=True).close()
    lines = (plain(n, f"SELECT a{n % 7} FROM buoy WHERE buoy_id = {n}") for n in range(RUNS))
    (humble.folder / "a.log").write_text("".join(lines))
    humble.ok("capture", "log", "a.log")
    return humble


def emptied_of_logs(folder: Path) -> None:
    for path in folder.glob("humble.ledger-*"):
        path.unlink()


def test_a_damaged_page_never_ends_in_a_traceback(kept: Program) -> None:
    ledger = kept.folder / "humble.ledger"
    with sqlite3.connect(ledger) as connection:
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    whole = ledger.read_bytes()
    draw = random.Random(7)
    refused = 0
    for _ in range(10):
        damaged = bytearray(whole)
        for _ in range(4):
            place = draw.randrange(100, len(damaged) - 100)
            damaged[place : place + 60] = draw.randbytes(60)
        for command in READING:
            emptied_of_logs(kept.folder)
            ledger.write_bytes(damaged)
            done = kept.run(*command)
            assert done.code in (0, 3), (command, done)
            refused += done.code == 3
            assert len(done.err) < 1500, done.err
    assert refused


FOREIGN = {
    "nothing": b"",
    "text": b"hello world" * 1000,
    "half a ledger": None,
    "another database": "other",
}


@pytest.mark.parametrize(
    "change",
    [
        "CREATE TRIGGER t AFTER INSERT ON events BEGIN DELETE FROM runs; END",
        "CREATE VIEW v AS WITH RECURSIVE r(n) AS (SELECT 1 UNION ALL SELECT n FROM r) SELECT n FROM r",
    ],
)
def test_a_ledger_that_acts_by_itself_is_refused(kept: Program, change: str) -> None:
    ledger = kept.folder / "humble.ledger"
    with closing(sqlite3.connect(ledger)) as connection:
        connection.execute(change)
        connection.commit()
    for command in READING:
        assert "none of ours" in kept.fails(3, *command)


@pytest.mark.parametrize("name", FOREIGN)
def test_a_file_that_is_no_ledger_is_told_and_left_alone(kept: Program, name: str) -> None:
    ledger = kept.folder / "humble.ledger"
    whole = ledger.read_bytes()
    emptied_of_logs(kept.folder)
    content = FOREIGN[name]
    ledger.unlink()
    if content == "other":
        with sqlite3.connect(ledger) as connection:
            connection.execute("CREATE TABLE theirs (a)")
    else:
        ledger.write_bytes(whole[: len(whole) // 2] if content is None else content)
    before = ledger.read_bytes()
    for command in (("history",), ("capture", "log", "a.log")):
        assert len(kept.fails(3, *command).splitlines()) == 2
    assert ledger.read_bytes() == before


def test_a_newer_ledger_a_folder_and_an_unknown_word_are_told(kept: Program) -> None:
    ledger = kept.folder / "humble.ledger"
    with sqlite3.connect(ledger) as connection:
        connection.execute("UPDATE captures SET body = '{\"nobody\": 1}'")
    assert "cannot be read" in kept.fails(3, "show", "k1")
    with sqlite3.connect(ledger) as connection:
        connection.execute("UPDATE alembic_version SET version_num = '9999'")
    assert "newer version" in kept.fails(3, "history")
    ledger.unlink()
    emptied_of_logs(kept.folder)
    ledger.mkdir()
    assert "cannot be used" in kept.fails(3, "history")


@pytest.mark.parametrize(
    "name", ["a?b=c", "a%20b", "a b", "ü#x", "a;b", "q'\"x", "file:x", ":memory:"]
)
def test_a_path_is_a_path(humble: Program, name: str) -> None:
    (humble.folder / "humble.toml").write_text(f"ledger = '''{name}'''\n")
    Ledger(humble.folder / name, create=True).close()
    (humble.folder / "a.log").write_text("".join(plain(n) for n in range(5)))
    assert humble.json("capture", "log", "a.log")["kept_runs"] == 5
    assert {p.name for p in humble.folder.iterdir()} == {"humble.toml", "a.log", name}


def test_a_full_disk_leaves_the_ledger_as_it_was(kept: Program) -> None:
    lines = (plain(n, f"SELECT b{n} FROM buoy WHERE buoy_id = {n}") for n in range(RUNS))
    (kept.folder / "b.log").write_text("".join(lines))

    def little_room() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        size = (kept.folder / "humble.ledger").stat().st_size + 60_000
        resource.setrlimit(resource.RLIMIT_FSIZE, (size, size))

    done = subprocess.run(
        [HUMBLE, "capture", "log", "b.log"], cwd=kept.folder, env=kept.environment,
        capture_output=True, text=True, preexec_fn=little_room, check=False,
    )  # fmt: skip
    assert done.returncode == 3, done.stderr
    assert "cannot be used" in done.stderr and "Traceback" not in done.stderr
    assert calls(kept) == RUNS
    kept.ok("capture", "log", "b.log")
    assert calls(kept) == 2 * RUNS


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can become somebody who may not write")
def test_a_ledger_that_may_only_be_read_is_told(kept: Program) -> None:
    emptied_of_logs(kept.folder)
    folder = Path("/var/tmp") / f"humble-read-only-{os.getpid()}"
    shutil.copytree(kept.folder, folder)
    try:
        folder.chmod(0o555)
        (folder / "humble.ledger").chmod(0o444)
        # What it needs is loaded first: nobody may not read this machine's Python.
        code = (
            "import os, sys; from humble_ledger.cli.entry import run; run(['history']);"
            f"os.chdir('{folder}'); os.setgid(65534); os.setuid(65534); sys.exit(run(['history']))"
        )
        done = subprocess.run(
            [sys.executable, "-c", code], cwd=kept.folder, env=kept.environment,
            capture_output=True, text=True, check=False,
        )  # fmt: skip
        assert done.returncode == 3 and "You may not write" in done.stderr, done
    finally:
        folder.chmod(0o755)
        shutil.rmtree(folder)


def test_killed_at_any_moment_by_anyone_the_totals_are_exact(kept: Program) -> None:
    """Captures of growing logs by several at once, killed as they come; then all is there once."""
    draw = random.Random(11)
    names = [f"g{n}.log" for n in range(4)]
    sizes = dict.fromkeys(names, 0)
    for kill in range(KILLS):
        for name in names:
            more = "".join(
                plain(n, f"SELECT {name[:2]}{n % 50} FROM buoy WHERE buoy_id = {n}")
                for n in range(sizes[name], sizes[name] + 400)
            )
            with (kept.folder / name).open("a") as file:
                file.write(more)
            sizes[name] += 400
        started = [
            subprocess.Popen(
                [HUMBLE, "capture", "log", *draw.sample(names, 2)], cwd=kept.folder,
                env=kept.environment, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True,
            )
            for _ in range(4)
        ]  # fmt: skip
        time.sleep(draw.uniform(0.2, 2.0))
        for each in started[: 1 + kill % 4]:
            each.kill()
        for each in started:
            _, said = each.communicate(timeout=PATIENCE_S)
            assert each.returncode in (0, 6, -signal.SIGKILL), (each.returncode, said)
    for _ in range(2):
        kept.run("capture", "log", *names)
    with sqlite3.connect(kept.folder / "humble.ledger") as connection:
        assert connection.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
        assert connection.execute("PRAGMA foreign_key_check").fetchall() == []
        summed = "SELECT sum(calls), round(sum(total_ms), 3) FROM "
        periods = connection.execute(summed + "periods").fetchone()
        assert connection.execute(summed + "usages").fetchone() == periods
    assert periods[0] == RUNS + sum(sizes.values())
    assert calls(kept) == periods[0]
