"""Readers fed with what was changed at random: no traceback, no hang, no memory without end.

`HUMBLE_FUZZ_READERS=100000` makes a long run of it; what it found is kept among the odd cases of
`test_logs` and `test_plans`.
"""

from __future__ import annotations

import os
import random
import time
import tracemalloc
from collections.abc import Callable

import pytest

from humble_ledger.capture.assembly import Assembler, Tally
from humble_ledger.capture.line_shapes import Shapes
from humble_ledger.capture.log_rows import BlockRows
from humble_ledger.capture.scripts import read_script
from humble_ledger.core.dialect import STANDARD
from humble_ledger.core.remedies.asked import setting
from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.core.statements.conditions import predicates
from humble_ledger.core.statements.fingerprint import normalise
from humble_ledger.core.statements.kinds import kind_of, one_statement
from humble_ledger.core.statements.masking import masked, masked_error, masked_expression
from humble_ledger.core.statements.mentions import mentions
from humble_ledger.core.statements.tokens import kinds_and_texts, meaningful, tokens
from humble_ledger.core.statements.wording import cut, refill
from humble_ledger.core.workload.gathering import Gathering
from humble_ledger.engines.postgresql.logs import plain as plain_log
from humble_ledger.engines.postgresql.logs import structured as structured_logs
from humble_ledger.errors import HumbleError
from tests.security.corpus import CALLING, DISGUISED, SEVERAL
from tests.security.test_lexer import made
from tests.security.test_logs import HEAD, ODD_JSON, ODD_PLAIN, plain, structured

TIMES = int(os.environ.get("HUMBLE_FUZZ_READERS", "300"))
LONGEST_S = 20.0
MOST_BYTES = 500 * 1024 * 1024
PIECES = [
    "", "\x00", "\n", "\n\t", "\r", "'", '"', "\\", "$$", "/*", "*/", "--", ";", "(", ")", ",", "::", "\ue000",
    "\u202e", "\udcff", "9" * 400, "nan", "LOG:  ", "DETAIL:  ", "duration: ", " ms  ", "statement: ",
    "plan:\n\t", "{", "}", "[", "parameters: $1 = '", "EXECUTE a(", "prepare: PREPARE a AS ", "UTC", "[7]", "@",
    "2026-03-01 10:00:30.500 UTC [7] me@skerry/app ", "SELECT ", " IN (1, 2)", "E'", "U&\"", "%s", "$1", ":x",
]  # fmt: skip


def changed(text: str, draw: random.Random) -> str:
    for _ in range(draw.choice((1, 2, 4, 8))):
        place, length = draw.randrange(len(text) + 1), draw.choice((0, 0, 1, 5, 40))
        text = text[:place] + draw.choice(PIECES) + text[place + length :]
    return text


def run(texts: Callable[[random.Random], str], use: Callable[[str], None], seed: str) -> None:
    draw = random.Random(seed)
    tracemalloc.start()
    try:
        for _ in range(TIMES):
            text = texts(draw)
            began = time.process_time()
            use(text)
            assert time.process_time() - began < LONGEST_S, text[:500]
        assert tracemalloc.get_traced_memory()[1] < MOST_BYTES
    finally:
        tracemalloc.stop()


STATEMENTS = [*SEVERAL.values(), *DISGUISED.values(), *CALLING.values()]


def _statement(draw: random.Random) -> str:
    return changed(draw.choice(STATEMENTS) if draw.random() < 0.5 else made(draw), draw)


def _use_statement(text: str) -> None:
    assert "".join(token.text for token in tokens(text)) == text
    kept = meaningful(text)
    assert kinds_and_texts(text) == ([t.kind.value for t in kept], [t.text for t in kept])
    # A comment is read by all the rules; without one, simple statements are read by fewer.
    assert normalise(text) == normalise("/**/" + text)
    kind_of(text)
    found = cut(text)
    assert found is None or refill(*found) == text
    mentions(text)
    for mask in (masked, masked_expression, masked_error):
        mask(text)
    read_script(text)
    for read in (one_statement, lambda text: parse_index(text, STANDARD.default_schema), setting):
        try:
            read(text)
        except HumbleError as error:
            assert len(error.message) < len(text) + 500


def test_statements() -> None:
    run(_statement, _use_statement, "statements")


def test_conditions() -> None:
    run(
        lambda draw: changed(draw.choice(CONDITIONS), draw),
        lambda text: list(predicates(text)),
        "c",
    )


CONDITIONS = [
    "((reading.taken_at >= '2026-02-01'::timestamp with time zone) AND (sensor_id = 7))",
    "(lower((name)::text) ~~ 'a%'::text)", "((a = ANY ('{1,2}'::integer[])) OR (b IS NOT NULL))",
    "((SubPlan 1) > 3)", "(NOT (hashed SubPlan 2))", "(ROW(a, b) < ROW(1, 'x'::text))",
]  # fmt: skip


def _taken(block: BlockRows) -> None:
    tally = Tally()
    assembler = Assembler(Gathering(), tally, lambda _: None, mask=False)
    assembler.begin("a.log")
    assembler.take(block)
    assembler.leave()


def _log(draw: random.Random) -> str:
    lines = [plain(n, draw.choice(STATEMENTS).replace("\n", "\n\t")) for n in range(4)]
    lines += draw.sample(sorted(x for x in ODD_PLAIN.values() if len(x) < 20_000), 2)
    lines.append(HEAD + "DETAIL:  parameters: $1 = 'a', $2 = NULL\n")
    draw.shuffle(lines)
    return changed("".join(lines), draw)


def test_plain_logs() -> None:
    shapes = Shapes()

    def use(text: str) -> None:
        data = text.encode("utf-8", "surrogateescape")
        for prefix in (None, "%m [%p] %q%u@%d/%a "):
            _taken(plain_log.plain_rows(data, prefix, shapes if prefix is None else None))
        plain_log.last_cut(data)

    run(_log, use, "plain")


def _json(draw: random.Random) -> str:
    said = f"duration: 12.5 ms  statement: {draw.choice(STATEMENTS)}"
    lines = [structured(n, said) for n in range(3)]
    lines += draw.sample(sorted(x for x in ODD_JSON.values() if len(x) < 20_000), 2)
    draw.shuffle(lines)
    return changed("".join(lines), draw)


def test_json_logs() -> None:
    shapes = Shapes()

    def use(text: str) -> None:
        _taken(structured_logs.json_rows(text.encode("utf-8", "surrogateescape"), shapes))

    run(_json, use, "json")


def _csv(draw: random.Random) -> str:
    fields = ["2026-03-01 10:00:00.500 UTC", "me", "skerry", "7", *[""] * 7, "LOG", "00000"]
    said = draw.choice(STATEMENTS).replace('"', '""')
    line = ",".join([*fields, f'"duration: 1.5 ms  statement: {said}"', *[""] * 8, "app", "client"])
    return changed(f"{line}\n" * 3, draw)


def test_csv_logs() -> None:
    run(
        _csv,
        lambda text: _taken(structured_logs.csv_rows(text.encode("utf-8", "surrogateescape"))),
        "csv",
    )


@pytest.mark.parametrize("number", [0, 2])
def test_long_ones(number: int) -> None:
    """What grows with the square of its length is seen at some ten thousand letters."""
    draw = random.Random(number)
    for piece in PIECES:
        text = ("SELECT 1 " if number else "") + (piece or "x") * (12_000 // max(1, len(piece)))
        text = changed(text, draw) if number == 2 else text
        began = time.process_time()
        _use_statement(text)
        data = (HEAD + "LOG:  duration: 1.0 ms  statement: " + text).encode(
            "utf-8", "surrogateescape"
        )
        _taken(plain_log.plain_rows(data, None, Shapes()))
        assert time.process_time() - began < LONGEST_S, (piece, time.process_time() - began)
