"""Our lexer held against the server's own parser, on texts made of what is easily misread."""

from __future__ import annotations

import os
import random

import psycopg
from psycopg.pq import DiagnosticField, ExecStatus

from humble_ledger.core.statements.tokens import split_statements, tokens
from tests.security.conftest import only_newest
from tests.security.guarded import Guarded

# `HUMBLE_LEXER=100000` makes a long run of it.
TEXTS = int(os.environ.get("HUMBLE_LEXER", "8000"))
# Syntax errors, and the escapes in strings that the server refuses while it reads.
LEXICAL = (b"42601", b"22025", b"22P06", b"22P05", b"22021")
SPACES = [
    " ",
    "  ",
    "\n",
    "\r",
    "\t",
    "\f",
    " --x\n",
    " --x'\r",
    "/* c */",
    "/* /* ; */ */",
    "--;\n",
]
STRINGS = [
    "'a'", "'a''b'", "';'", "'--'", "'/*'", "'\"'", r"'\'", r"E'\''", r"E'\\'", r"E'a\';'", "$$;$$",
    "$a$;$a$", "$a$ $b$ ' $a$", "'a'\n'b;'", r"E'a'" + "\n" + r"'\';'", "E'a' --c'\n '\\';'",
    "U&'\\0061'", "B'01'", "X'0f'", "N';'", "'\u00a0'", "'a'\r'b'", "$\u00e9$;$\u00e9$", "E''''",
    r"E'\\\''", "'a'--;\n';'",
]  # fmt: skip
NAMES = [
    '"a;b"',
    '"a""b"',
    "a$b$",
    "\u00e9",
    "x\u00a0y",
    'U&"\\0061;"',
    '"--"',
    '"\'"',
    "a$$",
    '"/*"',
]
PIECES = ["1", "1.5e3", "+", "||", "(", ")", ",", "- -", "*", "$1", "-", "/", "a:b", "?", "::text"]
STATEMENTS = [
    "SELECT {s}", "SELECT {s} AS {n}", "SELECT {s}||{s}", "SELECT ({s})", "SELECT 1{w}+{w}2",
    "VALUES ({s}),{w}({s})", "SELECT {s}{w}WHERE {s}{w}={w}{s}", "SELECT 1 AS {n}",
    "CREATE RULE r AS ON INSERT TO t DO ALSO (DELETE FROM t; DELETE FROM t)",
    "CREATE FUNCTION f() RETURNS int BEGIN ATOMIC SELECT 1; SELECT CASE WHEN true THEN 2 END; END",
    "CREATE FUNCTION f() RETURNS int LANGUAGE sql AS {s}", "SELECT{w}1", "SELECT 1--{s}\n", "",
    "SELECT @-1", "SELECT 2*-1", "SELECT 1 /*{s}*/", "BEGIN", "END", "SELECT $1{w}::int",
    "DO {s}", "CREATE TABLE {n} (a int)", "SELECT CASE WHEN true THEN 1 END",
]  # fmt: skip


def made(draw: random.Random) -> str:
    parts = []
    for _ in range(draw.choice((1, 1, 2, 3))):
        text = draw.choice(STATEMENTS)
        for mark, choices in (("{s}", STRINGS), ("{n}", NAMES), ("{w}", SPACES)):
            while mark in text:
                text = text.replace(mark, draw.choice(choices), 1)
        if draw.random() < 0.15:
            place = draw.randrange(len(text) + 1)
            text = text[:place] + draw.choice(SPACES + STRINGS + PIECES) + text[place:]
        parts.append(text)
    end = draw.choice(("", ";", " ;", ";;", "--"))
    return draw.choice((";", ";\n", " ; ", ";--\r")).join(parts) + end


@only_newest
def test_statements_are_parted_where_the_server_parts_them(guarded: Guarded) -> None:
    draw = random.Random(20261128)
    seen = {"one": 0, "several": 0, "unreadable": 0}
    with psycopg.connect(guarded.url, autocommit=True) as connection:
        pgconn = connection.pgconn
        for number in range(TEXTS):
            text = made(draw)
            assert "".join(token.text for token in tokens(text)) == text
            result = pgconn.prepare(b"", text.encode())
            said = result.get_error_message()
            state = result.error_field(DiagnosticField.SQLSTATE)
            if "multiple commands" in said:
                verdict = "several"
            elif result.status == ExecStatus.COMMAND_OK or state not in LEXICAL:
                verdict = "one"
            else:
                verdict = "unreadable"
            seen[verdict] += 1
            count = len(split_statements(text))
            if verdict != "unreadable":
                assert (count > 1) == (verdict == "several"), (number, text, count, verdict, said)
    # Most must be readable to the server, or this says nothing.
    assert seen["one"] > TEXTS / 4 and seen["several"] > TEXTS / 4, seen
