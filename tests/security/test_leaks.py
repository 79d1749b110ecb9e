"""What must not come out: passwords anywhere, literals of a masked ledger, acting characters."""

from __future__ import annotations

import json
from pathlib import Path
from xml.etree import ElementTree

import psycopg
import pytest
from psycopg import sql

from tests.program import Program
from tests.security.conftest import only_newest
from tests.security.guarded import Guarded
from tests.views.test_escaping import acts

SECRET, NUMBER = "S3cr3tWord", "918273645"
NAME = "sh\u202eow\x1b[31m\u2028 $x^2$ \"q' \\ ;--"
# Everything that a name goes through in figures, tables, trees and documents.
COMMANDS = (
    ("capture", "script", "hostile.sql", "--measure"),
    ("queries",),
    ("show", "q1"),
    ("plan", "q1"),
    ("plan", "q1", "--measure", "--as", "steps"),
    ("plan", "q1", "--as", "table"),
    ("plan", "q1", "--as", "tables"),
    ("plan", "q1", "--as", "figure", "--to", "plan.svg"),
    ("plan", "q1", "--find", "show"),
    ("plan", "q1", "--focus", "1"),
    ("routes", "q1"),
    ("diagnose",),
    ("diagnose", "q1"),
    ("diagnose", "--schema"),
    ("propose",),
    ("propose", "--sql"),
    ("show", "r1"),
    ("trial", "q1", "--remedy", "r1", "--pairs", "6"),
    ("show", "t1"),
    ("settle", "t1", "keep", "--reason", NAME),
    ("history",),
    ("history", "--predictions"),
    ("audit",),
    ("tidy",),
    ("replay", "--seconds", "1", "--clients", "1", "--to", "replay.svg"),
    ("plan", f"SELECT {NAME}"),
    ("show", NAME),
    ("table", NAME),
    ("queries", "--table", NAME),
    (NAME,),
    ("plan", "--target", NAME, "q1"),
)


@pytest.fixture
def hostile(aimed: Program, guarded: Guarded) -> Program:
    """A table, a column and an index that are named to harm, and a query of them."""
    table, column, index = (sql.Identifier(f"{kind} {NAME}") for kind in "tci")
    with psycopg.connect(guarded.url, autocommit=True) as connection:
        connection.execute(sql.SQL("DROP TABLE IF EXISTS {}").format(table))
        connection.execute(sql.SQL("CREATE TABLE {} (id integer, {} text)").format(table, column))
        connection.execute(
            sql.SQL("INSERT INTO {} SELECT n % 900, 'v' || n % 3000 FROM generate_series(1, 60000) n")
            .format(table)
        )  # fmt: skip
        connection.execute(sql.SQL("CREATE INDEX {} ON {} (id)").format(index, table))
        connection.execute(sql.SQL("ANALYZE {}").format(table))
        query = sql.SQL("SELECT * FROM {0} WHERE {1} = {2} ORDER BY id").format(
            table, column, sql.Literal("v7")
        )
        (aimed.folder / "hostile.sql").write_text(query.as_string(connection) + ";\n")
    return aimed


@only_newest
def test_names_act_nowhere(hostile: Program) -> None:
    for command in COMMANDS:
        for options in ((), ("--json",)):
            if "--sql" in command and options:
                continue
            done = hostile.run(*command, *options)
            assert acts(done.out) == [], (command, done.out)
            assert acts(done.err) == [], (command, done.err)
            if options and done.code == 0:
                json.loads(done.out)
    for figure in ("plan.svg", "replay.svg"):
        texts = "".join(ElementTree.parse(hostile.folder / figure).getroot().itertext())
        assert acts(texts) == []
    migrations = list((hostile.folder / "migrations").iterdir())
    assert migrations and all(acts(path.name) == [] for path in migrations)


def kept(folder: Path) -> dict[str, bytes]:
    """Every file that the program wrote into its folder."""
    return {
        str(path.relative_to(folder)): path.read_bytes()
        for path in folder.rglob("*")
        if path.is_file() and not path.name.startswith("given")
    }


def holds(content: bytes, word: str) -> bool:
    return any(word.encode(code) in content for code in ("utf-8", "utf-16-le"))


@only_newest
def test_a_masked_ledger_holds_no_literal(humble: Program, guarded: Guarded) -> None:
    humble.ok("init", guarded.url, "--role", "scratch", "--mask")
    texts = [
        f"SELECT * FROM precious WHERE note = '{SECRET}' AND amount = {NUMBER}",
        f"SELECT * FROM precious WHERE note = E'it\\'s {SECRET}'",
        f"SELECT * FROM precious WHERE note = 'it\\'s {SECRET}' OR note = 'b'",
        f"SELECT * FROM precious WHERE note = $a${SECRET}$a$",
        f"SELECT * FROM precious WHERE note LIKE U&'{SECRET}%'",
        f"SELECT * FROM precious /* {SECRET} */ WHERE id = 1 -- {NUMBER}\r",
        f"SELECT * FROM precious WHERE note IN ('a', '{SECRET}', '{NUMBER}')",
        f"SELECT * FROM precious WHERE note = 'broken off in {SECRET}",
        f"SELECT * FROM precious WHERE note = $q$broken off in {SECRET}",
        f"SELECT CAST('{SECRET}' AS integer)",
        f"SELECT * FROM precious WHERE id = {NUMBER}999999999",
        f"ALTER ROLE x PASSWORD '{SECRET}'",
        f"SELECT --\r '{SECRET}'",
        f"SELEC '{SECRET}'",
    ]
    lines = [
        {"message": f"duration: {100 + n}.5 ms  statement: {text}"} for n, text in enumerate(texts)
    ]
    lines += [
        {
            "message": "duration: 900.1 ms  execute a: SELECT * FROM precious WHERE note = $1",
            "detail": f"parameters: $1 = '{SECRET}', $2 = '{NUMBER}'",
        },
        {
            "message": "duration: 901.1 ms  execute <unnamed>: SELECT 1 FROM precious WHERE id = $1",
            "detail": f"Parameters: $1 = '{NUMBER}'",
        },
        {"message": f'invalid input syntax for type integer: "{SECRET}"', "error_severity": "ERROR"},
        {"message": "deadlock detected", "error_severity": "ERROR",
         "detail": f"Process 1 waits for x; blocked by process 2.\nProcess 1: SELECT '{SECRET}'"},
        {"message": f"canceling statement due to lock timeout: Key (note)=({SECRET})",
         "error_severity": "ERROR", "statement": f"SELECT '{SECRET}' FOR UPDATE"},
        {"message": "temporary file: path \"x\", size 1000000", "statement": f"SELECT '{SECRET}'"},
    ]  # fmt: skip
    with (humble.folder / "given.json").open("w") as file:
        for number, line in enumerate(lines):
            entry = {"timestamp": f"2026-03-01 10:00:{number:02}.000 UTC", "user": "app", "pid": 7,
                     "dbname": "guarded", "error_severity": "LOG"}  # fmt: skip
            file.write(json.dumps({**entry, **line}) + "\n")
    (humble.folder / "given.sql").write_text(";\n".join(texts))
    (humble.folder / "given-rewrite.sql").write_text(
        f"SELECT * FROM precious p WHERE p.note = '{SECRET}' AND p.amount = {NUMBER}"
    )
    where = f"note = '{SECRET}' AND amount = {NUMBER}"
    given = f"SELECT * FROM precious WHERE {where}"
    for command in (
        ("capture", "log", "given.json"),
        ("capture", "script", "given.sql", "--measure"),
        ("plan", given, "--measure"),
        ("routes", given, "--measure"),
        ("diagnose", given, "--measure"),
        ("diagnose", "--all"),
        ("propose", given),
        ("propose",),
        ("trial", given, "--index", f"precious (note) WHERE {where}", "--pairs", "6"),
        ("trial", given, "--index", f"precious ((note || '{SECRET}'))", "--pairs", "6"),
        ("trial", given, "--set", f"application_name={SECRET}", "--pairs", "6"),
        ("trial", given, "--rewrite", "given-rewrite.sql", "--pairs", "6"),
        ("trial", given, "--apply", f"COMMENT ON TABLE precious IS '{SECRET}'",
         "--revert", f"COMMENT ON TABLE precious IS '{NUMBER}'", "--pairs", "6"),
        ("trial", f"SELECT id / (amount - {NUMBER}) FROM precious WHERE note = '{SECRET}'",
         f"SELECT note::integer FROM precious WHERE note = '{SECRET}' OR id = 3",
         "--index", "precious (note)", "--pairs", "6"),
        ("settle", "t1", "drop", "--reason", f"because of '{SECRET}' and \"{SECRET}\""),
        ("replay", "--seconds", "1", "--clients", "1", "--apply",
         f"COMMENT ON TABLE precious IS '{SECRET}'", "--revert",
         f"COMMENT ON TABLE precious IS '{NUMBER}'"),
        ("table", "precious.note", "--value", SECRET, "--count"),
        ("history",),
    ):  # fmt: skip
        humble.run(*command)
        for name, content in kept(humble.folder).items():
            for word in (SECRET, NUMBER):
                place = content.find(word.encode())
                around = content[max(0, place - 300) : place + 60]
                assert not holds(content, word), (command, name, word, around)
    assert "t1" in humble.ok("history").out
    assert "without its literals" in humble.fails(2, "settle", "t1", "keep", "--reason", "wanted")


def test_a_password_comes_out_nowhere(humble: Program, password_url: str) -> None:
    right = password_url.replace("keeper@", "keeper:right@")
    assert "password: keep it in ~/.pgpass" in humble.ok("init", right, "--name", "kept").out
    again = ("plan", "SELECT 1", "--target")
    wrong = (
        password_url.replace("keeper@", "keeper:S3cr#t?S3cr@"),
        password_url.replace("keeper@", "keeper:S3cr/t@"),
        password_url.replace("keeper@", "keeper:S3cr@t@"),
        password_url.replace("keeper@", "keeper:S3cr%t@"),
        password_url + "&pass%77ord=S3crt",
        password_url + "&passfile=/S3crt",
        password_url + "&options=-c%20S3crt",
        password_url + "&S3crt",
        "host=/S3crt user=keeper password='S3crt",
        "keeper:S3crt@host",
        "S3crt",
    )
    for url in wrong:
        for command in ((*again, url), (*again, url, "--json"), ("init", url, "--name", "x")):
            done = humble.run(*command)
            assert done.code in (2, 3), (command, done)
            assert "S3c" not in done.out + done.err or url == "S3crt", done
    for content in kept(humble.folder).values():
        assert b"right" not in content and b"S3c" not in content
