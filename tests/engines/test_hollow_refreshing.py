"""A kept hollow follows the rows of its target, table by table."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.launching.keeping import FOLDER_VARIABLE
from humble_ledger.engines.postgresql.engine import PostgresEngine
from humble_ledger.engines.postgresql.session import PostgresSession
from tests.engines.hollow_schema import STATEMENTS, steps

ANEW, REFRESHED = "making a copy without rows", "bringing the copy up to date"
MORE = """
CREATE ROLE clerk LOGIN;
CREATE TABLE freight (id integer PRIMARY KEY, firm integer NOT NULL, note text, gone date);
INSERT INTO freight SELECT n, n % 400, 'Note ' || n % 300, CASE WHEN n % 3 = 0 THEN now() END
    FROM generate_series(1, 20000) n;
CREATE INDEX freight_firm ON freight (firm);
CREATE STATISTICS freight_lower ON (lower(note)) FROM freight;
CREATE STATISTICS freight_both ON firm, note FROM freight;
ALTER TABLE freight ENABLE ROW LEVEL SECURITY;
CREATE POLICY own ON freight FOR SELECT TO clerk USING (firm = 7);
GRANT USAGE ON SCHEMA quay TO clerk;
GRANT SELECT ON ALL TABLES IN SCHEMA quay, public TO clerk;
ANALYZE freight;
-- As long, and a level higher where it was built at once.
CREATE TABLE grown (id integer PRIMARY KEY, mark text);
CREATE INDEX grown_mark ON grown (mark DESC NULLS LAST, id);
INSERT INTO grown SELECT n, 'mark ' || n FROM generate_series(1, 125000) n;
CREATE TABLE built AS SELECT * FROM grown;
CREATE UNIQUE INDEX built_id ON built (id);
CREATE TABLE priced (id integer, day date, PRIMARY KEY (id, day));
INSERT INTO priced SELECT n, '2024-01-01' FROM generate_series(1, 125000) n;
GRANT SELECT ON grown, built, priced TO clerk;
ANALYZE grown, built, priced;
"""
# Rows go at the ends, too: of parts, of what refers to others, of what is seen in part.
CHANGES = [
    "DELETE FROM quay.visit WHERE boat < 40 OR day > '2024-12-20' OR berth = 3",
    'DELETE FROM "Odd Table" WHERE "Key" % 3 = 0 OR "Key" > 19000 OR tags[1] = \'t4\'',
    "DELETE FROM freight WHERE id % 2 = 0 OR firm > 390",
    "INSERT INTO quay.boat SELECT n, 'boat ' || n, 1 FROM generate_series(5000, 9000) n",
    "INSERT INTO quay.none VALUES (1, '2024-01-01')",
]
ASKED = [
    *STATEMENTS,
    "SELECT * FROM freight WHERE id = 5",
    "SELECT * FROM freight WHERE lower(note) = 'note 7'",
    "SELECT firm, note, count(*) FROM freight GROUP BY 1, 2",
    "SELECT * FROM grown WHERE id = 77",
    "SELECT * FROM built WHERE id = 77",
    "SELECT * FROM priced WHERE id = 77",
    "SELECT * FROM grown WHERE mark = 'mark 77'",
    "SELECT * FROM freight f JOIN quay.boat b ON b.boat = f.id WHERE f.firm > 380",
]


@pytest.fixture(scope="module", autouse=True)
def freight(target: str) -> None:
    """More tables on the target."""
    _change(target, MORE)


@pytest.fixture
def kept(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """A folder for hollows of the test's own."""
    folder = Path(tempfile.mkdtemp(prefix="humble-tests-", dir="/var/tmp"))
    folder.chmod(0o755)
    monkeypatch.setenv(FOLDER_VARIABLE, str(folder))
    yield
    shutil.rmtree(folder, ignore_errors=True)


def _plans_as(url: str) -> tuple[list[str], list[str]]:
    """How the hollow came to be, and what is otherwise on it than on its target."""
    said: list[str] = []
    other = []
    session = PostgresSession(url, Limits())
    with PostgresEngine().connect(url).hollow(progress=said.append) as made:
        for text in ASKED:
            there = session.explain(Statement(text)).plan
            here = made.explain(Statement(text), {}).plan
            within = 1e-3 if "tags" in text else 0.0
            same = pytest.approx(there.cost_total, rel=within, abs=0.0)
            if steps(here) != steps(there) or here.cost_total != same:
                other.append(f"{text}: {here.cost_total}, on the target {there.cost_total}")
        other += made.notes
    session.close()
    return said, other


def _change(target: str, text: str) -> None:
    with psycopg.connect(target, autocommit=True) as server:
        server.execute(text.encode())


@pytest.mark.usefixtures("kept")
def test_what_changed_is_brought_up_to_date_and_nothing_else_is(target: str) -> None:
    said, other = _plans_as(target)
    assert ANEW in said and not other
    for number, text in enumerate(CHANGES):
        _change(target, text)
        if number % 2 == 0:  # else its statistics are those of the rows before
            _change(target, "VACUUM ANALYZE")
        said, other = _plans_as(target)
        assert said[1:] and said[1].startswith(REFRESHED), (text, said)
        assert not other, (text, other)
    said, other = _plans_as(target)
    assert len(said) == 1 and not other  # nothing changed
    _change(target, "CREATE INDEX ON freight (note)")
    said, other = _plans_as(target)
    assert ANEW in said and not other


@pytest.mark.usefixtures("kept")
def test_a_table_of_which_one_sees_some_rows_is_followed_too(target: str) -> None:
    guarded = ["SELECT * FROM freight WHERE id = 5", "SELECT * FROM freight"]
    # Its statistics would be found by a sample, and that anew.
    _change(target, "DROP STATISTICS IF EXISTS freight_both")
    # And one that no hollow has, since it does without what reaches out to other servers.
    _change(
        target,
        "CREATE EXTENSION dblink; CREATE TABLE far (id int, key dblink_pkey_results);"
        "GRANT SELECT ON far TO clerk",
    )
    url = target.replace("humble@", "clerk@")
    session = PostgresSession(url, Limits())
    for change in ("", "DELETE FROM freight WHERE id > 10000; INSERT INTO far VALUES (1)"):
        _change(target, f"{change}; ANALYZE freight")
        said: list[str] = []
        with PostgresEngine().connect(url).hollow(progress=said.append) as made:
            for text in guarded:
                there = session.explain(Statement(text)).plan
                here = made.explain(Statement(text), {}).plan
                assert steps(here) == steps(there)
                assert [n.conditions for n in here.nodes()] == [n.conditions for n in there.nodes()]
    assert [words.split(":")[0] for words in said[1:]] == [REFRESHED]
    session.close()
