"""Hostile statements and schemas over a file: nothing is written, and no other file is opened."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing, suppress
from pathlib import Path

import pytest

from humble_ledger.core.remedies.counterexamples.model import SmallDatabase
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import IndexKey, TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Change, ExplainOptions, Limits, NewIndex
from humble_ledger.engines.sqlite.engine import SqliteEngine
from humble_ledger.errors import HumbleError
from tests.program import Program

ENGINE = SqliteEngine()
BUOY = TableName("", "buoy")

ATTACKS = [
    "SELECT 1; DELETE FROM buoy",
    "SELECT 1;;;/* x */; DROP TABLE buoy --",
    "SELECT * FROM buoy WHERE name = 'x'; ATTACH '{other}' AS o; CREATE TABLE o.t (a)",
    "ATTACH '{other}' AS o",
    "VACUUM INTO '{other}'",
    "PRAGMA writable_schema = 1",
    "PRAGMA journal_mode = WAL",
    "PRAGMA user_version = 7",
    "SELECT load_extension('{other}')",
    "SELECT writefile('{other}', 'x')",
    "SELECT * FROM pragma_journal_mode('wal')",
    "SELECT * FROM pragma_user_version(7)",
    "WITH t AS (SELECT 1) INSERT INTO buoy SELECT 9, 'x' FROM t",
    "INSERT INTO buoy VALUES (9, 'x') RETURNING id",
    "UPDATE buoy SET name = 'x' RETURNING name",
    "REPLACE INTO buoy VALUES (1, 'x')",
    "CREATE TEMP TABLE t AS SELECT 1",
    "DETACH main",
    "BEGIN EXCLUSIVE",
    "SELECT edit('x', 'touch {other}')",
    "SELECT fts3_tokenizer('simple', x'00')",
]


@pytest.fixture
def path(tmp_path: Path) -> Iterator[Path]:
    """A file, which is the very same afterwards, alone in its folder."""
    folder = tmp_path / "data"
    folder.mkdir()
    made = folder / "app.db"
    with closing(sqlite3.connect(made)) as connection:
        connection.execute("CREATE TABLE buoy (id INTEGER PRIMARY KEY, name TEXT)")
        connection.executemany(
            "INSERT INTO buoy VALUES (?, ?)", ((n, f"buoy {n}") for n in range(1, 500))
        )
        connection.commit()
    before = made.read_bytes()
    yield made
    assert made.read_bytes() == before
    assert [each.name for each in folder.iterdir()] == ["app.db"]


@pytest.mark.parametrize("attack", ATTACKS)
def test_no_statement_writes_the_file_or_opens_another(path: Path, attack: str) -> None:
    other = path.with_name("other.db")
    statement = Statement(attack.format(other=other))
    session = ENGINE.connect(str(path), Limits(statement_ms=5_000)).session()
    for options in (
        ExplainOptions(),
        ExplainOptions(measure=True),
        ExplainOptions(measure=True, allow_writes=True),
    ):
        with suppress(HumbleError):
            session.explain(statement, options)
    for ask in (session.run, session.require_run):
        with suppress(HumbleError):
            ask(statement)
    with ENGINE.connect(str(path), Limits()).hollow() as hollow:
        with suppress(HumbleError):
            hollow.explain(statement, {})
        with hollow.arena([BUOY]) as arena:
            arena.typical(BUOY, {})
            with arena.filled(SmallDatabase({BUOY: ({"id": "1", "name": "x"},)})) as filled:
                filled.ask(statement)
    with ENGINE.connect(str(path), Limits(), "t1").experiment(Change()) as experiment:
        for arm in (experiment.before, experiment.after):
            for measure in (False, True):
                with suppress(HumbleError):
                    arm.explain(statement, measure=measure)
            with suppress(HumbleError):
                arm.run(statement)
            with suppress(HumbleError):
                list(arm.result_rows(statement))
    session.close()


@pytest.mark.parametrize("attack", ATTACKS)
def test_no_condition_or_key_of_an_index_does(path: Path, attack: str) -> None:
    text = f"1) ; {attack.format(other=path.with_name('other.db'))} --"
    design = IndexDesign(BUOY, (IndexKey("", text),), predicate=text)
    session = ENGINE.connect(str(path), Limits()).session()
    with suppress(HumbleError):
        session.sample_keys(BUOY, design.keys, (), design.predicate)
    assert not session.is_immutable(BUOY, text)
    for condition in (text, f"'x' OR {text}"):
        with suppress(HumbleError):
            session.rows_matching(BUOY, "buoy", [condition])
        with suppress(HumbleError):
            session.count(BUOY, [condition])
    sql = design.create_sql("tried")
    change = Change((NewIndex("", "tried", sql, sql, "DROP INDEX tried"),))
    with suppress(HumbleError), ENGINE.connect(str(path), Limits(), "t1").experiment(change):
        pass
    with ENGINE.connect(str(path), Limits()).hollow() as hollow, suppress(HumbleError):
        shape = session.costs.sizes.in_order(session.tables([BUOY])[BUOY], ())
        hollow.explain(Statement("SELECT * FROM buoy"), {design: shape})
    session.close()


SCHEMAS = [
    # What the library prepares of a schema is its first statement alone.
    ("table", "CREATE TABLE buoy (id INTEGER PRIMARY KEY, name TEXT); ATTACH '{other}' AS o"),
    ("view", "CREATE VIEW v AS SELECT 1; ATTACH '{other}' AS o; CREATE TABLE o.t (a)"),
    ("index", "CREATE INDEX i ON buoy (name); ATTACH '{other}' AS o; CREATE TABLE o.t (a)"),
    ("trigger", "CREATE TRIGGER g AFTER INSERT ON buoy BEGIN SELECT load_extension('x'); END"),
    ("view", "CREATE VIEW v AS SELECT load_extension('{other}') AS x"),
]


@pytest.mark.parametrize(("kind", "sql"), SCHEMAS)
def test_a_hostile_schema_opens_no_other_file(tmp_path: Path, kind: str, sql: str) -> None:
    made, other = tmp_path / "app.db", tmp_path / "other.db"
    with closing(sqlite3.connect(made)) as connection:
        connection.execute("CREATE TABLE buoy (id INTEGER PRIMARY KEY, name TEXT)")
        connection.execute("CREATE VIEW v AS SELECT 1")
        connection.execute("CREATE INDEX i ON buoy (name)")
        connection.execute("CREATE TRIGGER g AFTER INSERT ON buoy BEGIN SELECT 1; END")
        connection.execute("INSERT INTO buoy VALUES (1, 'x')")
        connection.commit()
        connection.execute("PRAGMA writable_schema = 1")
        connection.execute(
            "UPDATE sqlite_master SET sql = ? WHERE type = ?", (sql.format(other=other), kind)
        )
        connection.commit()
    with suppress(HumbleError):
        session = ENGINE.connect(str(made), Limits()).session()
        session.tables(session.user_tables())
        session.is_immutable(BUOY, "lower(name)")
        for text in ("SELECT * FROM buoy WHERE name = 'x'", "SELECT * FROM v"):
            with suppress(HumbleError):
                session.explain(Statement(text), ExplainOptions(measure=True))
        with suppress(HumbleError), ENGINE.connect(str(made), Limits()).hollow() as hollow:
            hollow.explain(Statement("SELECT * FROM buoy"), {})
            with hollow.arena([BUOY]) as arena:
                arena.typical(BUOY, {})
                with arena.filled(SmallDatabase({BUOY: ({"id": "2", "name": "y"},)})):
                    pass
        with (
            suppress(HumbleError),
            ENGINE.connect(str(made), Limits(), "t1").experiment(Change()) as pair,
        ):
            pair.after.run(Statement("INSERT INTO buoy VALUES (5, 'z')"))
        session.close()
    assert sorted(each.name for each in tmp_path.iterdir()) == ["app.db"]


def test_odd_names_go_through_the_whole_loop(tmp_path: Path, humble: Program) -> None:
    made = tmp_path / 'odd\'name "x".db'
    with closing(sqlite3.connect(made)) as connection:
        connection.execute('CREATE TABLE "se""lect" ("from" INTEGER, "Or der" TEXT, "ü;--" TEXT)')
        connection.executemany(
            'INSERT INTO "se""lect" VALUES (?, ?, ?)',
            ((n, f"x{n % 700}", "\x1b[31m red") for n in range(30_000)),
        )
        connection.commit()
    humble.ok("init", str(made), "--role", "scratch")
    sql = 'SELECT "ü;--" FROM "se""lect" WHERE "Or der" = \'x77\' ORDER BY "from"'
    (remedy, *_) = humble.json("propose", sql)["remedies"]
    assert "Or der" in remedy["apply"][0]
    assert humble.json("trial", sql, "--remedy", remedy["id"])["verdict"] == "faster"
    humble.ok("settle", "t1", "keep", "--reason", "odd", "--apply")
    assert "\x1b" not in humble.ok("plan", sql, "--measure").out
    with closing(sqlite3.connect(made)) as connection:
        (name,) = connection.execute("SELECT name FROM pragma_index_list('se\"lect')").fetchone()
    assert name == remedy["name"] if "name" in remedy else name
