"""The demo as its user meets it, on a server of its own and on one of the user's."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import psycopg
import pytest

from humble_ledger.demo import scenario
from humble_ledger.demo.scenario import LOG_PREFIX
from humble_ledger.demo.story import STORY_QUERY, Teller, staged
from humble_ledger.demo.workload import load_workload
from humble_ledger.engines.postgresql.launcher import Cluster
from tests.conftest import FOUND, NEEDED_MAJOR
from tests.program import Program

ROOT = Path(__file__).parents[2]
TROUBLES = 17  # families of trouble in the scenario


def test_the_workload_has_each_family_of_trouble_and_three_healthy_queries() -> None:
    workload = load_workload()
    troubles = {w.trouble for w in workload if not w.healthy}
    assert len(troubles) == len([w for w in workload if not w.healthy]) >= TROUBLES - 2
    assert sum(w.healthy for w in workload) == 3
    assert workload and all(w.about and w.application for w in workload)


@pytest.mark.xdist_group("pg15")
def test_the_story_is_told_and_the_commands_of_the_readme_work_in_its_folder(
    humble: Program,
) -> None:
    told = humble.ok("demo").out
    for words in (
        "selective-full-scan", "no-index", "index on reading (sensor_id, taken_at)",
        "alternating pairs", "verdict: faster", "the same", "does not use it",
        "CREATE INDEX CONCURRENTLY", "DROP INDEX CONCURRENTLY", "scan-is-right", "sort-spills",
        "The server stops now",
    ):  # fmt: skip
        assert words in told, words
    folder = humble.folder / "humble-demo"
    assert len(list((folder / "migrations").glob("*.sql"))) == 2
    # The server is gone, the ledger stays readable.
    inside = Program(folder, humble.environment)
    assert "settled: keep" in inside.ok("history").out
    inside.fails(3, "plan", "q1")
    again = humble.run("demo", "--folder", str(humble.folder))
    assert again.code == 2 and "not empty" in again.err


def test_every_command_shown_with_its_output_is_one_the_story_runs() -> None:
    pages = [ROOT / "README.md", *(ROOT / "docs" / "guide").glob("*.md")]
    text = "\n".join(page.read_text() for page in pages)
    shown = re.findall(r"^\$ humble (.*)$", text, re.MULTILINE)
    assert len(shown) >= 12
    story = (ROOT / "src" / "humble_ledger" / "demo" / "story.py").read_text()
    for line in shown:
        assert f'"{shlex.split(line)[0]}"' in story


def _nothing(arguments: list[str]) -> int:
    return 0


def _silent(what: object, style: str, whole: bool) -> None:
    pass


@pytest.mark.xdist_group("pg18")
def test_the_demo_on_a_server_of_the_users_leaves_it_as_it_was(
    humble: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(scenario, "READINGS", 200_000)
    with Cluster(FOUND[NEEDED_MAJOR], {"jit": "off"}) as cluster:
        url = cluster.url("postgres")
        # The story is the other test's: here it is told to the end of reading.
        with staged(humble.folder, Teller(_nothing, _silent), url, None) as stage:
            humble.ok("init", stage.url, "--role", "scratch")
            humble.ok("capture", "log", str(stage.log), "--prefix", LOG_PREFIX)
            assert len(humble.json("queries")["queries"]) >= TROUBLES
            query = humble.query_with(STORY_QUERY)
            first = humble.json("diagnose", query)["symptoms"][0]
            assert first["name"] == "selective-full-scan"
        with psycopg.connect(url, autocommit=True) as connection:
            tables = connection.execute(
                "SELECT count(*) FROM pg_class WHERE relnamespace = 'public'::regnamespace"
            ).fetchone()
            assert tables == (0,)
            connection.execute("CREATE TABLE mine (a int)")
        message = humble.fails_somewhere(5, "demo", "--target", url)
        assert "has tables already" in message
