"""What the recorder writes, and that nothing of it reaches the application."""

from __future__ import annotations

import asyncio
import datetime
import json
import logging
import multiprocessing
import os
import sqlite3
import stat
import subprocess
import sys
import textwrap
import threading
import time
from collections.abc import Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import psycopg
import pytest
from sqlalchemy import create_engine, text
from sqlalchemy.exc import DBAPIError

from humble_ledger.engines.postgresql.launcher import Cluster
from humble_ledger.recording import AsgiRequests, Recorder, WsgiRequests, flush, record, request
from humble_ledger.recording.masking import without_values
from tests.conftest import FOUND, NEEDED_MAJOR
from tests.program import PATIENCE_S


@pytest.fixture
def log(tmp_path: Path) -> Path:
    return tmp_path / "statements.jsonl"


def lines(log: Path) -> list[dict[str, Any]]:
    flush()
    return [json.loads(line) for line in log.read_text().splitlines()]


def pond(log: Path, **options: Any) -> Any:
    made = sqlite3.connect(":memory:", check_same_thread=False)
    made.execute("CREATE TABLE buoy (id integer PRIMARY KEY, name text, seen text)")
    made.executemany("INSERT INTO buoy VALUES (?, ?, ?)", [(n, f"b{n}", "x") for n in range(50)])
    return record(made, Recorder(log, **options))


def test_a_statement_with_all_that_is_known_of_it(log: Path) -> None:
    connection = pond(log, application="pier")
    with request("nightly import"):
        rows = connection.execute("SELECT name FROM buoy WHERE id < ?", (7,)).fetchall()
    (line,) = lines(log)
    assert len(rows) == line["rows"] == 7 and line["ms"] >= 0
    assert line["statement"] == "SELECT name FROM buoy WHERE id < ?"
    assert (line["parameters"], line["placeholders"]) == ([7], "qmark")
    assert (line["application"], line["route"]) == ("pier", "nightly import")
    assert line["code"].startswith("tests/recording/test_recorder.py:")
    assert line["function"] == "test_a_statement_with_all_that_is_known_of_it"
    begun = datetime.datetime.fromtimestamp(line["at"], datetime.UTC)
    assert abs(datetime.datetime.now(datetime.UTC) - begun) < datetime.timedelta(minutes=10)
    assert stat.S_IMODE(log.stat().st_mode) == 0o600


def test_rows_however_they_are_fetched_and_statements_nobody_asks_more_of(log: Path) -> None:
    connection = pond(log)
    cursor = connection.cursor()
    cursor.execute("SELECT 1 FROM buoy")
    assert len(list(cursor)) == 50
    cursor.execute("SELECT 2 FROM buoy")
    assert cursor.fetchone() == (2,) and len(cursor.fetchmany(3)) == 3
    cursor.execute("SELECT 3 FROM buoy")  # ends the one before
    cursor.close()
    connection.execute("SELECT 4 FROM buoy")  # its cursor goes at once
    many = iter([("a", 1), ("b", 2)])
    connection.executemany("UPDATE buoy SET name = ? WHERE id = ?", many)
    connection.executemany("UPDATE buoy SET seen = ? WHERE id = ?", iter([]))
    connection.execute("SELECT name FROM buoy WHERE id = :id", {"id": 1}).fetchone()
    found = {line["statement"].split(" FROM")[0]: line for line in lines(log)}
    assert [found[f"SELECT {n}"].get("rows") for n in (1, 2, 3, 4)] == [50, 4, None, None]
    update = found["UPDATE buoy SET name = ? WHERE id = ?"]
    assert (update["rows"], update["parameters"]) == (2, ["a", 1])
    assert found["SELECT name"]["placeholders"] == "named"


def test_the_connection_and_its_cursors_are_as_the_drivers_own(log: Path) -> None:
    connection = pond(log)
    connection.row_factory = sqlite3.Row
    with connection as same:
        cursor = same.execute("INSERT INTO buoy VALUES (99, 'new', 'x')")
        assert cursor.lastrowid == 99 and cursor.rowcount == 1
    cursor.arraysize = 5
    cursor.execute("SELECT * FROM buoy ORDER BY id")
    assert len(cursor.fetchmany()) == 5 and cursor.description[1][0] == "name"
    with pytest.raises(sqlite3.OperationalError, match="no such table"):
        connection.execute("SELECT * FROM nowhere")
    connection.rollback()
    connection.close()
    assert lines(log)[-1]["error"] == "OperationalError: no such table: nowhere"


def test_values_that_json_has_no_form_for(log: Path) -> None:
    recorder = Recorder(log)
    given = (b"\x01\xff", datetime.date(2026, 3, 1), Decimal("1.50"), None, True, [1, "a"], 2.5)
    recorder.saw("SELECT 1", given, begun_s=1.0, ms=1.0)
    recorder.saw("SELECT 1", ("x" * 5000, 1), begun_s=1.0, ms=1.0)
    first, long = lines(log)
    assert first["parameters"] == ["\\x01ff", "2026-03-01", "1.50", None, True, [1, "a"], 2.5]
    assert "parameters" not in long  # half a value is none


@pytest.mark.parametrize(
    ("sql", "shown"),
    [
        ("SELECT 'it''s', 12.5 FROM t1 WHERE a = $1", "SELECT '?', 0 FROM t1 WHERE a = $1"),
        (r"SELECT E'a\'b', x2 FROM t", "SELECT '?', x2 FROM t"),
        ("SELECT $a$ it's $a$, $$b$$", "SELECT '?', '?'"),
        ("SELECT 1 -- don't\nWHERE a = 'secret'", "SELECT 0  \nWHERE a = '?'"),
        ("SELECT /* don't */ 'secret'", "SELECT   '?'"),
        ("SELECT 'no end", "SELECT '?'"),
        ("SELECT \"it's\" FROM t WHERE a = 'b'", "SELECT \"it's\" FROM t WHERE a = '?'"),
        ("WHERE a = %s AND b = %(c1)s AND d = :e2", "WHERE a = %s AND b = %(c1)s AND d = :e2"),
    ],
)
def test_masked_statements_have_no_value(sql: str, shown: str) -> None:
    assert without_values(sql) == shown


def test_of_some_servers_double_quotes_hold_values() -> None:
    sql = r'SELECT `a "b` FROM t WHERE a = "sec\"ret" AND b = \'x\' # it' "s"
    shown = without_values(sql.replace(r"\'", "'"), double_quotes=True)
    assert shown == "SELECT `a \"b` FROM t WHERE a = '?' AND b = '?'  "


def test_with_a_mask_neither_values_nor_messages_are_written(log: Path) -> None:
    connection = pond(log, mask=True)
    connection.execute("SELECT name FROM buoy WHERE id = ? AND name <> 'secret'", (424242,))
    with pytest.raises(sqlite3.OperationalError):
        connection.execute("SELECT 'secret' FROM secret_place")
    assert lines(log)[1]["error"] == "failed"
    assert "424242" not in log.read_text() and "'secret'" not in log.read_text()


def test_more_than_a_rate_is_counted_and_left_out(log: Path, monkeypatch: Any) -> None:
    moment = 5.0
    monkeypatch.setattr("humble_ledger.recording.recorder.time.monotonic", lambda: moment)
    recorder = Recorder(log, most_a_second=10)
    for _ in range(25):
        recorder.saw("SELECT 1", (), begun_s=1.0, ms=1.0)
    moment = 6.5
    recorder.saw("SELECT 2", (), begun_s=2.0, ms=1.0)
    assert [line.get("left_out", 0) for line in lines(log)] == [0] * 10 + [15, 0]


def test_the_files_stay_below_a_size(log: Path) -> None:
    recorder = Recorder(log, most_bytes=2_000, files_kept=2)
    for n in range(200):
        recorder.saw(f"SELECT {n}", (), begun_s=1.0, ms=1.0)
    flush()
    files = sorted(log.parent.glob("statements.jsonl*"))
    assert [f.name for f in files if f.suffix != ".lock"] == [
        "statements.jsonl", "statements.jsonl.1", "statements.jsonl.2",
    ]  # fmt: skip
    assert all(f.stat().st_size <= 2_000 for f in files)
    kept = [line["statement"] for f in (files[2], files[1], files[0]) for line in lines(f)]
    assert kept == [f"SELECT {n}" for n in range(200 - len(kept), 200)]


def _send_some(log: str, name: str) -> None:
    recorder = Recorder(log, most_bytes=20_000, files_kept=50, most_a_second=10**9)
    for n in range(300):
        recorder.saw(f"SELECT '{name}', {n}", (), begun_s=1.0, ms=1.0)


def test_several_processes_write_one_file(log: Path) -> None:
    context = multiprocessing.get_context("spawn")
    running = [context.Process(target=_send_some, args=(str(log), f"p{n}")) for n in range(3)]
    for each in running:
        each.start()
    for each in running:
        each.join()
        assert each.exitcode == 0
    files = [f for f in log.parent.glob("statements.jsonl*") if f.suffix != ".lock"]
    found = [line["statement"] for f in files for line in lines(f)]
    assert len(files) > 3 and len(set(found)) == len(found) == 900


def test_what_waits_is_written_within_a_moment_and_at_the_end(log: Path, tmp_path: Path) -> None:
    pond(log).execute("SELECT 1").fetchall()
    give_up = time.monotonic() + PATIENCE_S
    while not (log.exists() and log.read_text()) and time.monotonic() < give_up:
        time.sleep(0.05)
    assert json.loads(log.read_text())["statement"] == "SELECT 1"
    script = textwrap.dedent("""
        import os, sqlite3
        from humble_ledger.recording import record
        connection = record(sqlite3.connect(":memory:"), "at_end.jsonl")
        connection.execute("SELECT 'parent'").fetchall()
        if os.fork() == 0:
            connection.execute("SELECT 'child'").fetchall()
        else:
            os.wait()
    """)
    (tmp_path / "main.py").write_text(script)
    subprocess.run([sys.executable, "main.py"], cwd=tmp_path, check=True)
    found = [line["statement"] for line in lines(tmp_path / "at_end.jsonl")]
    assert sorted(found) == ["SELECT 'child'", "SELECT 'parent'"]


def test_threads_share_a_recorder(log: Path) -> None:
    recorder = Recorder(log, most_a_second=10**9)

    def send() -> None:
        for n in range(200):
            recorder.saw(f"SELECT {n}", (n,), begun_s=1.0, ms=1.0)

    running = [threading.Thread(target=send) for _ in range(4)]
    for each in running:
        each.start()
    for each in running:
        each.join()
    assert len(lines(log)) == 800


def test_what_goes_wrong_is_told_once_and_the_application_goes_on(
    log: Path, caplog: pytest.LogCaptureFixture
) -> None:
    log.mkdir()  # no file can be there
    connection = pond(log)
    with caplog.at_level(logging.WARNING):
        for _ in range(10):
            assert connection.execute("SELECT count(*) FROM buoy").fetchone() == (50,)
            flush()

    class Odd:
        def __str__(self) -> str:
            raise RuntimeError("no text")

    other = Recorder(log.with_name("other"))
    for _ in range(5):  # each is passed over alone
        other.saw(Odd(), Odd(), begun_s=1.0, ms=1.0)
    other.saw("SELECT 1", (float("nan"), 1.5), begun_s=1.0, ms=1.0)
    assert lines(log.with_name("other"))[0]["parameters"] == ["nan", 1.5]
    assert len(caplog.records) == 1 and "no longer recorded" in caplog.text


def test_an_engine_of_sqlalchemy_over_sqlite(log: Path, tmp_path: Path) -> None:
    engine = record(create_engine(f"sqlite:///{tmp_path / 'app.db'}"), log)
    with engine.begin() as connection:
        connection.execute(text("CREATE TABLE t (a integer)"))
        connection.execute(text("INSERT INTO t VALUES (:a)"), [{"a": n} for n in range(20)])
        assert len(connection.execute(text("SELECT a FROM t WHERE a > :a"), {"a": 4}).all()) == 15
    found = {line["statement"]: line for line in lines(log)}
    chosen = found["SELECT a FROM t WHERE a > ?"]
    assert (chosen["rows"], chosen["parameters"]) == (15, [4])
    assert chosen["database"].endswith("app.db")
    assert chosen["function"] == "test_an_engine_of_sqlalchemy_over_sqlite"


def test_a_cursor_of_an_engines_raw_connection_is_the_drivers_own(
    log: Path, tmp_path: Path
) -> None:
    engine = record(create_engine(f"sqlite:///{tmp_path / 'app.db'}"), log)
    raw = engine.raw_connection()
    cursor = raw.cursor()
    cursor.execute("CREATE TABLE t (a integer)")
    cursor.executemany("INSERT INTO t VALUES (?)", ((n,) for n in range(20)))
    assert cursor.rowcount == 20
    assert next(cursor.execute("SELECT a FROM t")) == (0,)
    assert cursor.fetchone() == (1,) and len(cursor.fetchmany(3)) == 3
    assert [row[0] for row in cursor] == list(range(5, 20))
    with pytest.raises(sqlite3.OperationalError):
        cursor.execute("SELECT no_such")
    cursor.execute("SELECT 1")  # nobody asks for its row
    cursor.close()
    raw.close()
    found = {line["statement"]: line for line in lines(log)}
    assert found["SELECT a FROM t"]["rows"] == 20
    assert "no such column" in found["SELECT no_such"]["error"] and "SELECT 1" in found
    for line in found.values():
        assert line["function"].startswith("test_a_cursor_of_an_engines_raw"), line


def test_an_engine_of_sqlalchemy_over_a_server(log: Path) -> None:
    with Cluster(FOUND[NEEDED_MAJOR]) as cluster:
        url = cluster.url("postgres")
        engine = create_engine("postgresql+psycopg://", creator=lambda: psycopg.connect(url))
        record(engine, log)
        with engine.connect() as connection:
            assert connection.execute(text("SELECT 1 + :a"), {"a": 4}).scalar() == 5
            with pytest.raises(DBAPIError):
                connection.execute(text("SELECT nothing"))
            connection.rollback()
            with pytest.raises(DBAPIError):  # the session goes with it
                connection.execute(text("SELECT pg_terminate_backend(pg_backend_pid())"))
        with engine.connect() as connection:
            assert connection.execute(text("SELECT 'again'")).scalar() == "again"
        engine.dispose()
    found = {line["statement"]: line for line in lines(log)}
    (sum_,) = [line for statement, line in found.items() if statement.startswith("SELECT 1 + ")]
    assert sum_["parameters"] == {"a": 4} and sum_["database"] == "postgres"
    assert found["SELECT nothing"]["error"].startswith("UndefinedColumn")
    assert "error" not in found["SELECT 'again'"]


def test_installed_packages_can_be_the_applications_own(log: Path, tmp_path: Path) -> None:
    """What is deployed as a package lies among libraries."""
    site = tmp_path / "lib" / "site-packages"
    for name in ("shop", "other"):
        (site / name).mkdir(parents=True)
        (site / name / "__init__.py").write_text(
            "def send(connection):\n    connection.execute('SELECT 1')\n"
        )
    script = textwrap.dedent(f"""
        import sqlite3, sys
        sys.path.insert(0, {str(site)!r})
        import other, shop
        from humble_ledger.recording import record
        connection = record(sqlite3.connect(":memory:"), {str(log)!r}, packages=["shop"])
        shop.send(connection)
        other.send(connection)
    """)
    (tmp_path / "main.py").write_text(script)
    subprocess.run([sys.executable, "main.py"], cwd=tmp_path, check=True)
    places = [line["code"] for line in lines(log)]
    assert places == ["lib/site-packages/shop/__init__.py:2", "main.py:8"]


def test_it_brings_nothing_along() -> None:
    script = (
        "import sys, humble_ledger.recording as r; r.Recorder('x')\n"
        "print([m for m in sys.modules if m.split('.')[0] in "
        "('msgspec', 'sqlglot', 'rich', 'typer', 'psycopg', 'sqlalchemy', 'numpy')])"
    )
    done = subprocess.run(
        [sys.executable, "-c", script], capture_output=True, text=True, check=True
    )
    assert done.stdout.strip() == "[]"


def test_a_wsgi_request_lasts_until_its_answer_is_closed(log: Path) -> None:
    connection = pond(log)

    def application(environ: Any, start_response: Any) -> Iterator[bytes]:
        connection.execute("SELECT 1").fetchall()
        yield b"part"
        connection.execute("SELECT 2").fetchall()

    served = WsgiRequests(application)
    for path in ("/piece/12", "/piece/13"):
        answer = served({"REQUEST_METHOD": "GET", "PATH_INFO": path}, None)
        assert b"".join(answer) == b"part"
        answer.close()  # type: ignore[attr-defined]
    connection.execute("SELECT 3").fetchall()
    found = lines(log)
    assert [line.get("route") for line in found] == ["GET /piece/{}"] * 4 + [None]
    assert len({line["request"] for line in found[:4]}) == 2


def test_asgi_requests_at_once_are_kept_apart(log: Path) -> None:
    connection = pond(log)

    async def application(scope: Any, receive: Any, send: Any) -> None:
        await asyncio.sleep(0)
        connection.execute(f"SELECT {scope['path'][-1]}").fetchall()
        await asyncio.sleep(0)
        connection.execute(f"SELECT {scope['path'][-1]}").fetchall()

    async def both() -> None:
        served = AsgiRequests(application)
        scopes = [{"type": "http", "method": "GET", "path": f"/at/{n}"} for n in (1, 2)]
        await asyncio.gather(*(served(scope, None, None) for scope in scopes))

    asyncio.run(both())
    requests: dict[str, set[str]] = {}
    for line in lines(log):
        requests.setdefault(line["request"], set()).add(line["statement"])
    assert sorted(requests.values(), key=str) == [{"SELECT 1"}, {"SELECT 2"}]


DJANGO = """
import os, sys
from django.conf import settings
settings.configure(
    BASE_DIR=os.getcwd(), SECRET_KEY="x", ROOT_URLCONF=__name__, ALLOWED_HOSTS=["*"],
    INSTALLED_APPS=["humble_ledger.recording.django.RecordingConfig"],
    MIDDLEWARE=["humble_ledger.recording.django.RequestMiddleware"],
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:"}},
    HUMBLE_RECORDING={"path": "statements.jsonl", "application": "pier"},
)
import django
django.setup()
from django.db import connection
from django.http import HttpResponse
from django.test import Client
from django.urls import path

def piece(request, number):
    with connection.cursor() as cursor:
        cursor.execute("SELECT %s", [number])
    return HttpResponse("done")

urlpatterns = [path("piece/<int:number>", piece)]
for number in (1, 2):
    assert Client().get(f"/piece/{number}").status_code == 200
"""


def test_in_django_by_its_settings(log: Path, tmp_path: Path) -> None:
    (tmp_path / "pages.py").write_text(DJANGO)
    environment = {**os.environ, "PYTHONPATH": ""}
    subprocess.run([sys.executable, "pages.py"], cwd=tmp_path, check=True, env=environment)
    found = [line for line in lines(log) if line["statement"] == "SELECT %s"]
    assert [line["parameters"] for line in found] == [[1], [2]]
    assert {line["code"] for line in found} == {"pages.py:20"}
    assert {line["route"] for line in found} == {"GET /piece/<int:number>"}
    assert found[0]["application"] == "pier" and found[0]["placeholders"] == "pyformat"


def test_what_cannot_be_recorded_is_a_mistake_of_its_own() -> None:
    with pytest.raises(TypeError, match="engine of SQLAlchemy"):
        record(object(), "statements.jsonl")
