"""Files that others write meanwhile, huge ones, and what is no database at all."""

from __future__ import annotations

import multiprocessing
import os
import sqlite3
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import pytest

from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Change, ExplainOptions, Limits, NewIndex
from humble_ledger.engines.sqlite.engine import SqliteEngine
from humble_ledger.errors import HumbleError, TargetUnreachable

ENGINE = SqliteEngine()
READING = TableName("", "reading")
FEW = Statement("SELECT value FROM reading WHERE sensor_id = 7")
# Writes as often as it can until a line comes; then tells how often, and what hindered it.
WRITER = """
import sqlite3, sys, threading
connection = sqlite3.connect(sys.argv[1], isolation_level=None)
stopped = threading.Event()
threading.Thread(target=lambda: (sys.stdin.readline(), stopped.set()), daemon=True).start()
written, said = 0, ""
print("ready", flush=True)
while not stopped.wait(0.002):
    try:
        connection.execute("BEGIN IMMEDIATE")
        connection.execute("INSERT INTO reading (sensor_id, value) VALUES (7, 1.0)")
        connection.execute("UPDATE reading SET value = value + 1 WHERE id = 3")
        connection.execute("COMMIT")
        written += 1
    except sqlite3.OperationalError as error:
        said = str(error)
        break
print(written, said, sep="|", flush=True)
"""


def made(path: Path, rows: int = 20_000, mode: str = "DELETE") -> Path:
    with closing(sqlite3.connect(path)) as connection:
        connection.execute(f"PRAGMA journal_mode = {mode}")
        connection.execute(
            "CREATE TABLE reading (id INTEGER PRIMARY KEY, sensor_id INTEGER, value REAL)"
        )
        connection.executemany(
            "INSERT INTO reading VALUES (?, ?, ?)", ((n, n % 200, n / 7) for n in range(1, rows))
        )
        connection.commit()
    return path


@contextmanager
def written_meanwhile(path: Path) -> Iterator[subprocess.Popen[str]]:
    writer = subprocess.Popen(
        [sys.executable, "-c", WRITER, str(path)],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    try:
        assert writer.stdout is not None and writer.stdout.readline() == "ready\n"
        yield writer
    finally:
        writer.kill()
        writer.wait()


@pytest.mark.parametrize("mode", ["DELETE", "TRUNCATE", "PERSIST", "WAL"])
def test_a_writer_is_never_told_that_we_lock_the_file(tmp_path: Path, mode: str) -> None:
    path = made(tmp_path / "app.db", mode=mode)
    index = "CREATE INDEX tried ON reading (sensor_id)"
    change = Change((NewIndex("", "tried", index, index, "DROP INDEX tried"),))
    with written_meanwhile(path) as writer:
        session = ENGINE.connect(str(path), Limits()).session()
        seen = []
        for _ in range(5):
            seen.append(session.explain(FEW, ExplainOptions(measure=True)).plan.root.rows_seen)
            assert session.tables([READING])[READING].rows > 19_000
            assert session.count(READING, ["sensor_id = 9"]) == 100
        with ENGINE.connect(str(path), Limits(), "t1").experiment(change) as experiment:
            for _ in range(5):
                one = experiment.before.run(FEW).rows
                assert one == experiment.after.run(FEW).rows >= (seen[-1] or 0)
        session.close()
        said, _ = writer.communicate("stop\n")
        count, _, words = said.partition("|")
    assert words.strip() == "" and int(count) > 5, "the writer was hindered"
    assert seen == sorted(seen, key=lambda rows: rows or 0), "each look sees what was committed"
    with closing(sqlite3.connect(path)) as connection:
        assert connection.execute("PRAGMA integrity_check").fetchone() == ("ok",)
        assert (
            connection.execute("SELECT count(*) FROM pragma_index_list('reading')").fetchone()[0]
            == 0
        )


def test_a_file_of_ten_gigabytes_is_looked_at_and_tried_without_reading_it_whole(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    path = made(tmp_path / "huge.db")
    pages = 10 * 1024**3 // 4096
    with path.open("r+b") as file:
        file.seek(28)
        file.write(pages.to_bytes(4, "big"))  # the header's size of the database
    os.truncate(path, pages * 4096)
    session = ENGINE.connect(str(path), Limits()).session()
    facts = session.tables([READING])[READING]
    assert facts.rows == 19_999 and 50 < facts.pages < 500
    assert session.explain(FEW, ExplainOptions(measure=True)).plan.root.rows_seen == 100
    session.close()
    index = "CREATE INDEX tried ON reading (sensor_id)"
    change = Change((NewIndex("", "tried", index, index, "DROP INDEX tried"),))
    with ENGINE.connect(str(path), Limits(), "t1").experiment(change) as experiment:
        assert experiment.after.explain(FEW, measure=True).plan.uses_index("tried")
        assert not experiment.before.explain(FEW, measure=True).plan.uses_index("tried")
    assert [each.name for each in tmp_path.iterdir()] == ["huge.db"]


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (None, "There is no file"),
        (b"", "is empty"),
        (b"a diary, and no database" * 50, "not an SQLite database, or it is encrypted"),
        (bytes(range(256)) * 40, "not an SQLite database, or it is encrypted"),
    ],
)
def test_what_is_no_database_is_refused_in_words(
    tmp_path: Path, content: bytes | None, words: str
) -> None:
    path = tmp_path / "app.db"
    if content is not None:
        path.write_bytes(content)
    with pytest.raises(TargetUnreachable, match=words) as caught:
        ENGINE.connect(str(path), Limits()).session()
    assert caught.value.hint
    assert path.exists() is (content is not None), "nothing is made in its place"


@pytest.mark.parametrize("place", [100, 4096, 9000])
def test_a_damaged_file_is_no_traceback(tmp_path: Path, place: int) -> None:
    path = made(tmp_path / "app.db")
    with path.open("r+b") as file:
        file.seek(place)
        file.write(b"\xff" * 3000)
    try:
        session = ENGINE.connect(str(path), Limits()).session()
        session.tables(session.user_tables())
        session.run(FEW)
    except HumbleError as error:
        assert "damaged" in str(error) or "refuses" in str(error)


def _reads_as_nobody(path: str, answers: object) -> None:
    os.setgroups([])
    os.setgid(65534)
    os.setuid(65534)
    session = ENGINE.connect(path, Limits()).session()
    answers.put(session.run(FEW).rows)  # type: ignore[attr-defined]
    session.close()


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can become somebody without rights")
@pytest.mark.parametrize("mode", ["DELETE", "WAL"])
def test_a_file_in_a_folder_without_the_right_to_write(tmp_path: Path, mode: str) -> None:
    with tempfile.TemporaryDirectory(dir="/tmp") as folder:
        path = made(Path(folder) / "app.db", mode=mode)
        path.chmod(0o444)
        Path(folder).chmod(0o555)
        context = multiprocessing.get_context("fork")
        answers = context.Queue()
        reader = context.Process(target=_reads_as_nobody, args=(str(path), answers))
        reader.start()
        reader.join(60)
        assert reader.exitcode == 0 and answers.get() == 100
        assert sorted(os.listdir(folder)) == ["app.db"]


def test_reading_and_trying_leave_no_file_beside_a_database_with_a_log(tmp_path: Path) -> None:
    path = made(tmp_path / "app.db", mode="WAL")
    before = path.read_bytes()
    session = ENGINE.connect(str(path), Limits()).session()
    session.run(FEW)
    session.tables(session.user_tables())
    session.close()
    index = "CREATE INDEX by_sensor ON reading (sensor_id)"
    change = Change((NewIndex("", "by_sensor", index, index, "DROP INDEX by_sensor"),))
    with ENGINE.connect(str(path), Limits(), "mark").experiment(change) as experiment:
        assert experiment.after.run(FEW).rows == experiment.before.run(FEW).rows
        with experiment.lacking("by_sensor") as (lacking, whole):
            assert lacking.run(FEW).rows == whole.run(FEW).rows
    assert [each.name for each in tmp_path.iterdir()] == ["app.db"] and path.read_bytes() == before


def test_a_replay_of_a_file_that_is_written_sees_what_is_there(tmp_path: Path) -> None:
    path = made(tmp_path / "app.db")
    client = ENGINE.connect(str(path), Limits(), "mark").client(writes=False)
    before = client.run(FEW).rows
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("INSERT INTO reading (sensor_id, value) VALUES (7, 1.0)")
        connection.commit()
    assert client.run(FEW).rows == (before or 0) + 1
    client.close()


def test_the_smallest_number_there_is(tmp_path: Path) -> None:
    path = tmp_path / "app.db"
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("CREATE TABLE far (at INTEGER, note TEXT)")
        rows = [(-(2**63), "?1"), (1_764_400_000_000, "no")]
        connection.executemany("INSERT INTO far VALUES (?, ?)", rows)
        connection.commit()
    session = ENGINE.connect(str(path), Limits()).session()
    facts = session.tables([TableName("", "far")])[TableName("", "far")]
    assert facts.columns["at"].mean_width_bytes == 7
    assert session.run(Statement("SELECT at FROM far WHERE note = '?1'")).rows == 1
    session.close()
