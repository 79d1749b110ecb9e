"""Bundles, another's ledger, notes, and the ledger's own care, by the program as people use it."""

from __future__ import annotations

import json
import shutil
import sqlite3
import zipfile
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import msgspec
import pytest

from humble_ledger.core.messages import AS_TOLD, Message, message
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.views.wording import in_words
from humble_ledger.workflow.reporting.masking import masked_symptom
from tests.conftest import clean_environment
from tests.program import Program
from tests.told import LONG, SECRET

pytestmark = pytest.mark.xdist_group("report")
TABLES = (
    "captures queries runs periods usages plans symptoms remedies trials settlements notes "
    "imported events"
).split()


@pytest.fixture
def mine(told: Program, tmp_path: Path) -> Program:
    """A copy of the ledger with a whole chain, to be changed."""
    shutil.copytree(told.folder, tmp_path / "mine")
    return Program(tmp_path / "mine", clean_environment())


@pytest.fixture
def other(mine: Program, tmp_path: Path) -> Program:
    """A colleague's folder over the same database, in which nothing was captured yet."""
    (tmp_path / "other").mkdir()
    shutil.copy(mine.folder / "app.db", tmp_path / "other" / "app.db")
    program = Program(tmp_path / "other", clean_environment())
    program.ok("init", "app.db", "--role", "scratch")
    return program


def _rows(program: Program) -> dict[str, list[tuple[Any, ...]]]:
    with closing(sqlite3.connect(program.folder / "humble.ledger")) as connection:
        return {name: connection.execute(f"SELECT * FROM {name}").fetchall() for name in TABLES}


def _as_told(program: Program, query: str) -> dict[str, Any]:
    found: dict[str, Any] = program.json("show", query)
    # Ids are those of a ledger, and nothing else differs.
    for name in ("plans", "symptoms"):
        found[name] = len(found[name])
    for name in ("id", "share", "running_share"):
        del found["query"][name]
    return found


def test_a_colleague_goes_on_with_what_was_exported(mine: Program, other: Program) -> None:
    query = mine.query_with("keeper = $1")
    mine.ok("note", query, "only since the new crew planner")
    mine.ok("export", query, "--to", "keeper.zip")
    other.ok("plan", "SELECT count(*) FROM buoy")  # so that ids differ
    new = other.json("import", str(mine.folder / "keeper.zip"))["new"]
    assert new["queries"] == 1 and new["trials"] == 1 and new["plans"] >= 3
    theirs = other.query_with("keeper = $1")
    assert theirs != query
    assert _as_told(other, theirs) == _as_told(mine, query)
    assert "only since the new crew planner" in other.ok("show", theirs).out
    trial = other.json("show", "t1")
    assert trial["queries"][0]["id"] == theirs
    assert "settled" in other.ok("show", "t1").out
    plan = trial["queries"][0]["after"]["plan"]
    assert "visit_keeper_day_idx" in str(other.json("show", plan)["root"])
    assert "nothing wrong" in other.ok("ledger", "check").out
    # And goes on there.
    other.ok("diagnose", theirs)
    again = other.json("trial", theirs, "--remedy", trial["remedies"][0])
    assert again["id"] == "t2"


def test_importing_twice_or_back_again_changes_nothing(mine: Program, other: Program) -> None:
    mine.ok("export", "--to", "all.zip")
    bundle = str(mine.folder / "all.zip")
    other.ok("import", bundle)
    before = _rows(other)
    assert other.json("import", bundle)["new"] == {}
    assert _rows(other) == before
    assert other.json("ledger", "merge", str(mine.folder / "humble.ledger"))["new"] == {}
    assert _rows(other) == before
    before = _rows(mine)
    other.ok("export", "--to", "back.zip")
    assert mine.json("import", str(other.folder / "back.zip"))["new"] == {}
    assert _rows(mine) == before
    for program in (mine, other):
        assert program.json("ledger", "check")["faults"] == []
    ranked = [each.json("queries")["queries"] for each in (mine, other)]
    assert [(q["text"], q["calls"], q["total_ms"]) for q in ranked[0]] == [
        (q["text"], q["calls"], q["total_ms"]) for q in ranked[1]
    ]


def test_what_two_people_found_comes_together(mine: Program, other: Program) -> None:
    (other.folder / "more.sql").write_text(
        "SELECT id FROM visit WHERE keeper = 3 AND note <> 'x' ORDER BY day;\nSELECT 1;"
    )
    other.ok("capture", "script", "more.sql", "--measure")
    theirs = other.json("queries")["queries"]
    mine.ok("ledger", "merge", str(other.folder / "humble.ledger"))
    both = {q["text"]: q for q in mine.json("queries", "--source", "script")["queries"]}
    for each in theirs:
        assert both[each["text"]]["calls"] >= each["calls"]
    assert mine.json("ledger", "check")["faults"] == []


def test_a_masked_bundle_has_no_literal(mine: Program, other: Program) -> None:
    mine.ok("export", "--to", "open.zip")
    mine.ok("export", "--to", "masked.zip", "--mask")
    with zipfile.ZipFile(mine.folder / "open.zip") as file:
        assert any(SECRET.encode() in file.read(name) for name in file.namelist())
    with zipfile.ZipFile(mine.folder / "masked.zip") as file:
        for name in file.namelist():
            for literal in (SECRET, LONG, "window.bad", "turned"):
                assert literal.encode() not in file.read(name), (literal, name)
    other.ok("import", str(mine.folder / "masked.zip"))
    assert other.json("ledger", "check")["faults"] == []
    query = other.query_with("keeper = $1")
    assert other.json("show", query)["symptoms"]


def _in_former_words(text: bytes) -> bytes:
    """Symptoms as bundles of version 1 had them, with sentences in place of messages."""
    lines = []
    for line in text.splitlines():
        record = json.loads(line)
        record["symptom"]["summary"] = "said in former words"
        record["symptom"]["cause"]["detail"] = "for a former reason"
        lines.append(json.dumps({**record, "version": 1}).encode())
    return b"\n".join(lines)


def test_a_bundle_of_the_former_version_is_read(mine: Program, other: Program) -> None:
    mine.ok("export", "--to", "former.zip")
    path = mine.folder / "former.zip"
    _changed(path, "symptoms.jsonl", _in_former_words)
    _changed(path, "manifest.json", lambda t: t.replace(b'"version": 3', b'"version": 1'))
    other.ok("import", str(path))
    (id_, *_) = other.json("show", other.query_with("keeper = $1"))["symptoms"]
    (shown,) = other.json("show", id_)["symptoms"]
    assert (shown["summary"], shown["cause"]["detail"]) == (
        "said in former words", "for a former reason",
    )  # fmt: skip


def _changed(path: Path, name: str, change: Callable[[bytes], bytes]) -> None:
    """The bundle with one of its files changed."""
    with zipfile.ZipFile(path) as file:
        parts = {each: file.read(each) for each in file.namelist()}
    parts[name] = change(parts[name])
    with zipfile.ZipFile(path, "w") as file:
        for each, text in parts.items():
            file.writestr(each, text)


@pytest.mark.parametrize(
    ("name", "change", "said"),
    [
        ("manifest.json", lambda t: t.replace(b'"version": 3', b'"version": 9'), "newer version"),
        ("manifest.json", lambda t: b"{}", "no bundle"),
        ("plans.jsonl", lambda t: t.replace(b'"version":3}', b'"version":7}'), "version 7"),
        ("trials.jsonl", lambda t: t[: len(t) // 2], "line 1 of trials.jsonl"),
        ("queries.jsonl", lambda t: t.replace(b'"id":"q1"', b'"id":"q77"'), 'names "q1"'),
        ("remedies.jsonl", lambda t: b"[" * 100_000, "line 1 of remedies.jsonl"),
        ("symptoms.jsonl", lambda t: t.replace(b'"node":', b'"node":"x","n":'), "symptoms.jsonl"),
        ("captures.jsonl", lambda t: t.replace(b'"lines":', b'"lines":"x","n":'), "its capture"),
    ],
)
def test_a_bundle_that_is_wrong_is_refused_and_nothing_of_it_kept(
    mine: Program, other: Program, name: str, change: Callable[[bytes], bytes], said: str
) -> None:
    mine.ok("export", "--to", "all.zip")
    _changed(mine.folder / "all.zip", name, change)
    before = _rows(other)
    assert said in other.fails(4, "import", str(mine.folder / "all.zip"))
    assert _rows(other) == before


def test_what_is_no_bundle_is_told_so(other: Program) -> None:
    (other.folder / "a.zip").write_bytes(b"PK no zip at all")
    assert "no bundle" in other.fails(4, "import", "a.zip")
    assert "no-such.zip" in other.fails(4, "import", "no-such.zip")
    assert "not a ledger" in other.fails(3, "ledger", "merge", "app.db")
    other.fails(2, "export", "q9")


def test_statements_of_a_stranger_are_not_run_by_their_id(mine: Program, other: Program) -> None:
    mine.ok("export", "--to", "all.zip")

    def forged(text: bytes) -> bytes:
        lines = [msgspec.json.decode(line) for line in text.splitlines()]
        record = next(
            each for each in lines if each["remedy"]["operation"]["type"] == "create-index"
        )
        record["remedy"] |= {
            "operation": {
                "type": "custom", "forward": ["DROP TABLE visit"], "backward": ["SELECT 1"],
            },
            "apply": ["DROP TABLE visit"], "revert": ["SELECT 1"], "summary": "an index",
        }  # fmt: skip
        return b"\n".join(msgspec.json.encode(each) for each in lines)

    _changed(mine.folder / "all.zip", "remedies.jsonl", forged)
    other.ok("import", str(mine.folder / "all.zip"))
    remedies = [f"r{n}" for n in range(1, 20)]
    found = [
        each for each in remedies
        if (done := other.run("show", each, "--json")).code == 0 and "DROP TABLE" in done.out
    ]  # fmt: skip
    query = other.query_with("keeper = $1")
    for command in (("trial", query), ("replay", query, "--seconds", "1")):
        assert "another ledger" in other.fails(5, *command, "--remedy", found[0])
    with closing(sqlite3.connect(other.folder / "app.db")) as connection:
        assert connection.execute("SELECT count(*) FROM visit").fetchone() == (30_000,)


def test_what_a_bundle_claims_of_itself_is_not_believed(mine: Program, other: Program) -> None:
    query = mine.query_with("keeper = $1")
    claimed = mine.json("show", query)["query"]["fingerprint"].encode()
    mine.ok("export", "--to", "all.zip")
    bundle = mine.folder / "all.zip"
    _changed(bundle, "trials.jsonl", lambda t: t.replace(b'"done"', b'"running"'))
    other_text = b"SELECT secret FROM elsewhere"
    _changed(
        bundle, "queries.jsonl",
        lambda t: b"".join(
            msgspec.json.encode(r | {"text": other_text.decode()}) + b"\n"
            if r["fingerprint"].encode() == claimed else msgspec.json.encode(r) + b"\n"
            for r in map(msgspec.json.decode, t.splitlines())
        ),
    )  # fmt: skip
    other.ok("import", str(bundle))
    assert "nothing to tidy" in other.ok("tidy").out
    # What is captured of the real statement does not get the forged text.
    (other.folder / "one.sql").write_text(
        "SELECT id, note FROM visit WHERE keeper = 1 AND note <> 'y' ORDER BY day;"
    )
    other.ok("capture", "script", "one.sql", "--measure")
    (real,) = [q for q in other.json("queries")["queries"] if "keeper = $" in q["text"]]
    assert real["fingerprint"].encode() == claimed


def test_history_tells_who_and_where(mine: Program) -> None:
    mine.ok("note", "t1", "asked the keepers")
    event = mine.json("history")["events"][-1]
    assert event["words"] == "note: asked the keepers"
    assert event["person"] and event["machine"]
    assert "asked the keepers" in mine.ok("show", "t1").out
    assert "no query q99" in mine.fails(2, "note", "q99", "nothing")
    assert "empty" in mine.fails(2, "note", "t1", " ")


def test_a_check_finds_what_is_missing(mine: Program) -> None:
    for change, said in (
        ("DELETE FROM plans WHERE origin LIKE 'trial%'", "is not there"),
        ("UPDATE usages SET calls = calls + 1", "add up to"),
        ("UPDATE runs SET literals = '[]' WHERE id = 1", "more or fewer values"),
        ("UPDATE remedies SET body = x'7b7d' WHERE id = 1", "r1"),
        ("DELETE FROM remedies", "names r"),
    ):
        broken = mine.folder / "broken.ledger"
        mine.ok("ledger", "backup", "broken.ledger")
        with closing(sqlite3.connect(broken)) as connection:
            assert connection.execute(change).rowcount > 0
            connection.commit()
        (mine.folder / "humble.toml").write_text('ledger = "broken.ledger"\n')
        done = mine.run("ledger", "check", "--json")
        assert done.code == 1
        assert any(said in each for each in done.json["faults"]), (change, done.out)
        (mine.folder / "humble.toml").write_text('ledger = "humble.ledger"\n')
        broken.unlink()
    assert mine.json("ledger", "check")["faults"] == []


def test_a_backup_is_a_ledger_and_never_written_over_anything(mine: Program) -> None:
    mine.ok("ledger", "backup", "monday.ledger")
    assert "there already" in mine.fails(3, "ledger", "backup", "monday.ledger")
    (mine.folder / "humble.toml").write_text('ledger = "monday.ledger"\n')
    assert mine.json("ledger", "check")["faults"] == []


def test_pruning_keeps_what_a_decision_rests_on(mine: Program) -> None:
    query = mine.query_with("keeper = $1")
    before = mine.json("show", query)
    asked = mine.json("ledger", "prune", "--older", "0s", "--dry-run")
    assert asked["removed"]["runs"] > 0
    assert len(mine.json("queries")["queries"]) == 4  # nothing was done
    removed = mine.json("ledger", "prune", "--older", "0s")["removed"]
    assert removed == asked["removed"]
    assert mine.json("ledger", "check")["faults"] == []
    after = mine.json("show", query)
    assert after["runs"] == before["runs"] and after["plans"] == before["plans"]
    assert [q["id"] for q in mine.json("queries")["queries"]] == [query]
    assert json.loads(mine.ok("show", "t1", "--json").out)["verdict"]
    assert mine.json("ledger", "prune", "--older", "0s")["removed"] == {}


def test_every_table_comes_in_other_formats(told: Program) -> None:
    rows = told.ok("queries", "--format", "csv").out.splitlines()
    assert rows[0].startswith("id,fingerprint,text,")
    assert "</script>" not in told.ok("--format=md", "queries").out
    shown = told.ok("show", "t1", "--format", "md").out
    assert "| median time (measured) |" in shown
    assert "csv, md" in told.fails(2, "queries", "--format", "xml")
    assert "no table" in told.fails(2, "show", "k1", "--format", "csv")
    assert "needs a value" in told.fails(2, "queries", "--format")


def test_words_of_a_masked_finding_have_no_bare_value() -> None:
    found = Symptom(
        "slow-for-values", 0, "",
        message(
            "slow-for-some-values", place="status", values=["lost"], more=0, median_ms=90.0,
            others_ms=2.0, runs=7,
        ),
        {"values": "lost", "slow_runs": 7, "place": "status"},
        Cause("rare-value", Message(AS_TOLD, {"text": "lost is rare"})),
    )  # fmt: skip
    masked = masked_symptom(found)
    assert "lost" not in f"{masked}"
    assert masked.evidence == {"slow_runs": 7, "place": "status"}
    told = "with status = … it took 90.0 ms, with others 2.0 ms (medians; 7 runs"
    assert in_words(masked.summary).startswith(told)
    assert in_words(masked.cause.detail) == "… is rare"
