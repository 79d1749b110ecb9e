from __future__ import annotations

import subprocess
import sys
import textwrap
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.config import Config
from alembic.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import create_engine

from humble_ledger.core.messages import message, phrase
from humble_ledger.core.plans.model import Pages
from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.core.remedies.model import Prediction, index_remedy
from humble_ledger.core.statements.fingerprint import normalise
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.core.trials.model import QueryTrial, Side, Trial, Verdict
from humble_ledger.core.trials.ratio import RatioInterval
from humble_ledger.errors import LedgerUnreachable, WrongUsage
from humble_ledger.ledger import upgrading
from humble_ledger.ledger.repository import Ledger
from humble_ledger.ledger.store.place import place_of
from humble_ledger.ledger.store.sqlite_file import FileStore
from humble_ledger.ledger.tables import metadata
from tests.plans import FOLDER, RECORDED, recorded

ROOT = Path("/")


@pytest.fixture
def ledger(place: str) -> Iterator[Ledger]:
    with Ledger(place_of(place, ROOT), create=True) as ledger:
        yield ledger


def test_the_migrations_make_the_tables_and_the_newest_is_known(tmp_path: Path) -> None:
    assert ScriptDirectory(str(upgrading.FOLDER)).get_current_head() == upgrading.NEWEST
    with FileStore(tmp_path / "l", create=True).reading() as connection:
        differences = compare_metadata(MigrationContext.configure(connection), metadata)
    assert differences == []


def test_runs_of_the_first_version_are_carried_over(tmp_path: Path) -> None:
    path = tmp_path / "l"
    engine = create_engine(f"sqlite:///{path}")
    config = Config()
    config.set_main_option("script_location", str(upgrading.FOLDER))
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "0001")
        connection.exec_driver_sql("INSERT INTO about VALUES ('uid', 'abcd')")
        connection.exec_driver_sql(
            "INSERT INTO captures VALUES (1, '2026-03-01', 'log', 'old.log', NULL, NULL, 3, ?)",
            (b'{"lines":3,"passed_over":{},"first_unreadable":"","queries":1,"new_queries":1}',),
        )
        connection.exec_driver_sql(
            "INSERT INTO queries VALUES (1, '2026-03-01', ?, ?, '[\"public.t\"]')",
            (normalise("select 1").fingerprint, "SELECT $1"),
        )
        for n, started in enumerate(["2026-03-01T10:00:00.000+00:00", None, None]):
            connection.exec_driver_sql(
                "INSERT INTO runs VALUES"
                " (?, 1, ?, ?, ?, NULL, 'select 7', '[]', 'me', 'db', 'a', '9')",
                (n + 1, 1 if n < 2 else None, started, 2.0 + n),
            )
    engine.dispose()
    with Ledger(path) as ledger:
        (query,) = ledger.queries.all()
        assert (query.usage.calls, query.usage.total_ms, query.usage.max_ms) == (2, 5.0, 3.0)
        assert query.statement == "select 7"
        assert (query.tables, query.applications) == (("public.t",), ("a",))
        assert len(ledger.queries.runs("q1")) == 3
        assert ledger.captures.get("k1").kept == 3
        assert ledger.queries.keep("SELECT 5") == "q1"
    with FileStore(path).reading() as connection:
        assert compare_metadata(MigrationContext.configure(connection), metadata) == []


@pytest.mark.parametrize("content", [None, b"", b"no database at all" * 100])
def test_what_is_no_ledger_is_refused(tmp_path: Path, content: bytes | None) -> None:
    path = tmp_path / "l"
    if content is not None:
        path.write_bytes(content)
    with pytest.raises(LedgerUnreachable):
        Ledger(path)


def test_a_newer_ledger_is_left_alone(tmp_path: Path) -> None:
    path = tmp_path / "l"
    store = FileStore(path, create=True)
    with store.writing() as connection:
        connection.exec_driver_sql("UPDATE alembic_version SET version_num = '9999'")
    with pytest.raises(LedgerUnreachable, match="newer version"):
        Ledger(path)


def test_a_plan_comes_back_as_it_was_kept(ledger: Ledger) -> None:
    query = ledger.queries.keep("select 1")
    ids = []
    for path in RECORDED[::7]:
        plan = recorded(int(path.parent.name), path.stem)
        kept = ledger.plans.keep(Statement("select 1"), plan, {"a": 1}, query=query, origin="read")
        assert ledger.plans.get(kept.id).plan == plan, path.stem
        ids.append(kept.id)
    assert sorted(p.id for p in ledger.plans.of_query(query)) == sorted(ids)


def test_ids_stay_and_the_same_thing_gets_the_same_id(ledger: Ledger) -> None:
    assert ledger.queries.keep("select 1") == ledger.queries.keep("SELECT 2") == "q1"
    assert ledger.queries.keep("select a") == "q2"
    remedy = index_remedy(
        parse_index("t (a)", "public"), reason="x", predictions=(Prediction("q1", 9, 1, "f"),)
    )
    first = ledger.remedies.keep(remedy)
    again = index_remedy(
        parse_index("t(a)", "public"), reason="y", predictions=(Prediction("q2", 9, 2, "f"),)
    )
    second = ledger.remedies.keep(again)
    assert first.id == second.id == "r1"
    assert {p.query for p in second.remedy.predictions} == {"q1", "q2"}
    plan = ledger.plans.keep(
        Statement("select 1"), recorded(18, "nothing"), {}, query="q1", origin="read"
    )
    symptom = Symptom(
        "sort-spills", 1, "step", message("no-filter", table="t"), {"rows": 1},
        Cause("c", message("references-without-index", references=[phrase("d")], shown=True)),
        1.0, 0.5,
    )  # fmt: skip
    assert [e.id for e in ledger.symptoms.keep(plan, [symptom])] == ["s1"]
    (kept,) = ledger.symptoms.keep(plan, [symptom])
    assert (kept.id, kept.symptom, kept.remedies) == ("s1", symptom, ("r1",))


def test_a_trial_is_in_the_ledger_before_anything_is_created(ledger: Ledger) -> None:
    id_, mark = ledger.trials.begin("postgresql://x", ledger.uid, "host:1:2")
    assert mark == f"{id_}@{ledger.uid}"
    ledger.trials.keep_creation(id_, "public", "an_index")
    running = ledger.trials.get(id_)
    assert (running.status, running.trial, running.creations) == (
        "running",
        None,
        (("public", "an_index"),),
    )
    side = Side((1.0, 2.0), 3.0, 1.5, 10.0, Pages(1, 2), 4, "p1")
    ratio = RatioInterval(0.5, 0.4, 0.6, 0.96, 6)
    query = QueryTrial("q1", Verdict.FASTER, "why", side, side, ratio, True, "same", True)
    trial = Trial(Verdict.FASTER, "way", (), (query,), 5.0, 100)
    ledger.trials.end(id_, "done", trial)
    done = ledger.trials.get(id_)
    assert (done.status, done.trial, done.creations) == ("done", trial, ())


@pytest.mark.parametrize(
    ("id_", "words"), [("q9", "no query q9"), ("x", "not an id"), ("p1", "no plan yet")]
)
def test_unknown_ids(ledger: Ledger, id_: str, words: str) -> None:
    with pytest.raises(WrongUsage, match=words):
        ledger.require(id_)


WRITER = textwrap.dedent("""
    import sys
    from pathlib import Path
    from humble_ledger.core.workload.gathering import Gathering, RunSeen
    from humble_ledger.ledger.captures import CaptureTally
    from humble_ledger.ledger.repository import Ledger
    from humble_ledger.ledger.store.place import place_of

    ledger = Ledger(place_of(sys.argv[1], Path.cwd()))
    print("ready", flush=True)
    for n in range(int(sys.argv[3])):
        gathering = Gathering()
        for m in range(40):
            sql = f"select {sys.argv[2]}{m} from t"
            group = gathering.groups.of(sql, sql)
            gathering.count(group, ("", "", ""), None, 1.0)
            gathering.keep(RunSeen(group, sql, (), (), ("", "", ""), "", None, 1.0))
        writer = ledger.captures.begin("log", sys.argv[2])
        writer.keep(gathering.harvest())
        writer.finish(CaptureTally())
""")


def _writer(place: str, name: str, times: int) -> subprocess.Popen[str]:
    command = [sys.executable, "-c", WRITER, place, name, str(times)]
    return subprocess.Popen(command, stdout=subprocess.PIPE, text=True)


def test_a_writer_killed_at_any_moment_leaves_whole_captures(place: str) -> None:
    at = place_of(place, ROOT)
    Ledger(at, create=True).close()
    for wait in (0.0, 0.01, 0.03, 0.07, 0.15):
        writer = _writer(place, "a", 100_000)
        assert writer.stdout is not None and writer.stdout.readline() == "ready\n"
        time.sleep(wait)
        writer.kill()
        writer.wait()
        with Ledger(at) as ledger:
            calls = sum(query.usage.calls for query in ledger.queries.all())
            runs = sum(len(ledger.queries.runs(query.id)) for query in ledger.queries.all())
            assert calls == runs == sum(each.kept for each in ledger.captures.all())
            assert calls % 40 == 0


def test_two_writers_at_once_lose_nothing(place: str) -> None:
    at = place_of(place, ROOT)
    Ledger(at, create=True).close()
    writers = [_writer(place, name, 25) for name in "ab"]
    assert [w.wait(60) for w in writers] == [0, 0]
    with Ledger(at) as ledger:
        queries = ledger.queries.all()
        assert len(queries) == 80
        assert queries and all(q.usage.calls == 25 for q in queries)


def test_the_recorded_plans_are_of_both_versions() -> None:
    assert {p.name for p in FOLDER.iterdir()} == {"15", "18"}
