"""Lines known by their shape say what they say when read as entries, whatever their digits."""

from __future__ import annotations

import json
import random
import re
from collections.abc import Callable
from functools import partial

import pytest

from humble_ledger.capture.line_shapes import MOST_BYTES, MOST_KNOWN, Shape, Shapes
from humble_ledger.capture.log_rows import AMOUNT, CLIENT, KEY, BlockRows
from humble_ledger.engines.postgresql.logs.plain import plain_rows
from humble_ledger.engines.postgresql.logs.structured import json_rows

PREFIX = "%m [%p] %q%u@%d/%a "
HEAD = "2026-03-01 10:00:00.500 UTC [4711] me@skerry/app LOG:  duration: 12.345 ms  statement: "
STATEMENTS = (
    "SELECT value FROM reading WHERE reading_id = 918273",
    "SELECT * FROM alert\n\tWHERE code = 17\n\t  AND raised_at > '2026-03-01 10:20:30'",
    "  SELECT 1.5, -2, 'it''s 3 o''clock' FROM buoy  ",
    "SELECT * FROM part_2026 WHERE id = 5",  # digits of a name are no literal
    "SELECT v1, v2 FROM t3 WHERE v1 = 4",
    'SELECT "Year 2026" FROM buoy WHERE n = 7',
    "SELECT 'line 1\n\tline 2', 8",
    r"SELECT E'tab\x09', 9",
    "SELECT $body$ 10 $body$, 11",
    "SELECT 12 -- the 13th\n\tFROM buoy",
    "SELECT /* 14 */ 15",
    "SELECT 'Årsund 16', 17 FROM bøye",
    "SELECT 0x1F, 18",
    "BEGIN",
    "INSERT INTO visit (minutes, note) VALUES (19, 'calm'), (20, NULL)",
    "SELECT 'never closed, 21",
)
OTHER_LINES = (
    HEAD.replace("statement: ", "execute S_1: ") + "SELECT value FROM reading WHERE sensor_id = $1",
    HEAD.replace("me@skerry", "user7@base8") + "SELECT 22",
    HEAD.replace("/app", "/humble-ledger 5 t1") + "SELECT 23",
    HEAD.replace("duration: 12.345 ms  ", "") + "SELECT 24",
    HEAD.replace(" UTC", " CET") + "SELECT 25",
    HEAD.replace(" UTC", " +02") + "SELECT 26",
    HEAD.replace("10:00:00.500", "10:00:00") + "SELECT 27",
    HEAD.split("duration", maxsplit=1)[0] + "duration: 28.5 ms",
    HEAD.split("LOG", maxsplit=1)[0] + "ERROR:  division by zero at 29",
    HEAD.split("LOG", maxsplit=1)[0] + "DETAIL:  Parameters: $1 = '30', $2 = NULL",
    HEAD.split("LOG", maxsplit=1)[0] + "STATEMENT:  SELECT 31 / 0",
    HEAD.split("LOG", maxsplit=1)[0]
    + 'LOG:  temporary file: path "base/pgsql_tmp/pgsql_tmp32.0", size 330000',
    "2026-03-01 10:00:00.500 UTC [4711] LOG:  checkpoint starting: time",
)


def varied(line: str, chance: random.Random) -> str:
    """The line with other digits; those of the clock stay a time."""
    head, rest = line[:19], line[19:]
    return head + re.sub(r"\d", lambda _: str(chance.randrange(10)), rest)


def said(block: BlockRows) -> tuple[object, ...]:
    """What a block says, wherever its keys and clients stand."""
    rows = [
        [*row[:CLIENT], block.clients[row[CLIENT]], row[AMOUNT],
         block.keys[row[KEY]][0] if row[KEY] >= 0 else None, *row[KEY + 1 :]]
        for row in block.rows
    ]  # fmt: skip
    return (
        rows, sorted(block.clients), block.lines, block.entries, block.passed_over, block.zoned,
        block.first_unreadable,
    )  # fmt: skip


def as_plain(lines: list[str]) -> bytes:
    return "".join(f"{line}\n" for line in lines).encode()


def as_json(lines: list[str]) -> bytes:
    return "".join(json_line(line, ascii_only=bool(len(line) % 2)) for line in lines).encode()


def json_line(line: str, *, ascii_only: bool) -> str:
    line = line.replace("\n\t", "\n")
    head = re.match(r"(\S+ \S+ \S+) \[(\d+)\] (?:(\w+)@(\w+)/([^:]*?) )?(\w+):  ", line)
    assert head is not None, line
    stamp, process, user, database, application, level = head.groups()
    entry = {
        "timestamp": stamp, "user": user or "", "pid": int(process), "dbname": database or "",
        "error_severity": level, "message": line[head.end() :],
        "application_name": application or "", "query_id": 5,
    }  # fmt: skip
    if len(line) % 3 == 0:
        entry["detail"] = "Parameters: $1 = '77'"
    return json.dumps(entry, ensure_ascii=ascii_only) + "\n"


@pytest.mark.parametrize(
    ("write", "read"),
    [
        (as_plain, lambda data, shapes: plain_rows(data, PREFIX, shapes)),
        (as_plain, lambda data, shapes: plain_rows(data, None, shapes)),
        (as_json, json_rows),
    ],
    ids=["plain, prefix given", "plain, prefix recognised", "JSON"],
)
def test_whatever_is_read_by_shape_says_the_same(
    write: Callable[[list[str]], bytes], read: Callable[[bytes, Shapes | None], BlockRows]
) -> None:
    chance = random.Random(5)
    whole = [HEAD + sql for sql in STATEMENTS] + list(OTHER_LINES)
    shapes = Shapes()
    met = 0
    for _ in range(60):
        lines = [varied(chance.choice(whole), chance) for _ in range(40)]
        data = write(lines)
        assert said(read(data, shapes)) == said(read(data, None))
        met += sum(found is not None for found in shapes.of(data)[1])
    assert met > 500, "many are known by their shape in the end"


@pytest.mark.parametrize(
    ("write", "read"),
    [(as_plain, partial(plain_rows, prefix=PREFIX)), (as_json, json_rows)],
    ids=["plain", "JSON"],
)
def test_a_block_of_known_shapes_only_comes_as_columns_and_says_the_same(
    write: Callable[[list[str]], bytes], read: Callable[..., BlockRows]
) -> None:
    chance = random.Random(7)
    whole = [HEAD + STATEMENTS[number] for number in (0, 1, 2, 14)]
    shapes, ours = Shapes(), whole[0].replace("/app ", "/humble-ledger ")
    for _ in range(60):
        read(
            write([varied(chance.choice([*whole, ours]), chance) for _ in range(40)]), shapes=shapes
        )
    as_columns = 0
    for _ in range(60):
        data = write([varied(chance.choice(whole), chance) for _ in range(9)])
        found, expected = read(data, shapes=shapes, columns=True), read(data)
        as_columns += found.columns is not None
        if found.columns is not None:
            found.rows = list(found.columns.rows())
        assert said(found) == said(expected)
    assert as_columns > 30, "most blocks have nothing else"
    assert shapes.of(write([ours]))[1][0] is None, "nothing of our own is ever known"


def test_lines_that_are_no_entries_are_counted_as_before() -> None:
    shapes = Shapes()
    good = HEAD + STATEMENTS[0]
    for torn in ("no entry 1 at all", "\tsomebody's indented line", "", good[30:]):
        data = as_plain([good, torn, good, torn, torn, good])
        for _ in range(2):
            assert said(plain_rows(data, PREFIX, shapes)) == said(plain_rows(data, PREFIX))


def test_digits_in_a_prefix_mean_what_they_say() -> None:
    prefix, shapes = "srv1 " + PREFIX, Shapes()
    ours, others = (f"srv{n} {HEAD}SELECT 5\n".encode() for n in (1, 2))
    for data in (ours, others, ours + others):
        assert said(plain_rows(data, prefix, shapes)) == said(plain_rows(data, prefix))


@pytest.mark.parametrize(
    ("prefix", "start"),
    [("%n %c ", "1772359200.250 65e1a2b3.4d2 "), ("%t [%p]: ", "2026-03-01 10:00:00 UTC [9]: ")],
)
def test_other_kinds_of_time_and_session(prefix: str, start: str) -> None:
    shapes = Shapes()
    data = f"{start}LOG:  duration: 1.0 ms  statement: SELECT 1\n".encode() * 3
    for _ in range(2):
        block = plain_rows(data, prefix, shapes)
        assert said(block) == said(plain_rows(data, prefix))
        assert block.rows and all(row[1] is not None and row[2] for row in block.rows)


def test_where_every_line_is_different_shapes_are_given_up() -> None:
    shapes = Shapes()
    letters = [chr(97 + n % 26) * (1 + n // 26 % 40) + chr(97 + n // 1040) for n in range(1040)]
    lines = [f"{HEAD}SELECT '{a}', '{b}'" for a in letters[:200] for b in letters[:150]]
    assert len(lines) > MOST_KNOWN
    for n in range(0, len(lines), 5_000):
        plain_rows(as_plain(lines[n : n + 5_000]), PREFIX, shapes)
    assert not shapes.useful
    data = as_plain(lines[:50])
    assert said(plain_rows(data, PREFIX, shapes)) == said(plain_rows(data, PREFIX))


def test_long_statements_do_not_fill_the_memory() -> None:
    shapes = Shapes()
    lines = [b"%c" % (65 + n % 26) * (100_000 + n) for n in range(200)]
    for line in [*lines, *lines]:  # a shape is kept at its second sight
        shapes.learn(line, lambda: Shape(session=slice(0, 4)))
    kept = [line for line in lines if shapes.of(line)[1] != [None]]
    assert kept and sum(map(len, kept)) < MOST_BYTES + 200_000
