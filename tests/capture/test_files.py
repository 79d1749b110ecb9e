from __future__ import annotations

import gzip
import lzma
import os
from pathlib import Path

import pytest
import zstandard

from humble_ledger.capture.files import LineReader, position_of
from humble_ledger.errors import UnreadableInput
from tests.program import Program

HEAD = "2026-03-01 10:00:{n:02d}.500 UTC [7] me@skerry/app LOG:  duration: 1.5 ms  statement: "


def log_lines(first: int, last: int) -> str:
    return "".join(f"{HEAD.format(n=n)}SELECT {n} FROM t\n" for n in range(first, last))


def test_going_on_where_it_stopped(tmp_path: Path) -> None:
    path = tmp_path / "a.log"
    path.write_text("one\ntwo\nthr")
    reader = LineReader(path)
    assert list(reader) == ["one\n", "two\n"], "a line without its end is left for later"
    at = reader.position
    with path.open("a") as file:
        file.write("ee\nfour\n")
    assert position_of(path, [at]) == at
    assert list(LineReader(path, at.offset)) == ["three\n", "four\n"]
    path.write_text("another file took the name when the log was rotated\n")
    assert position_of(path, [at]) is None
    assert position_of(path, []) is None


@pytest.mark.parametrize(
    ("ending", "pack"),
    [
        (".gz", gzip.compress),
        (".xz", lzma.compress),
        (".zst", zstandard.compress),
        ("", lambda data: data),
    ],
)
def test_compressed_logs_read_the_same(tmp_path: Path, ending: str, pack) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / f"a.log{ending}"
    path.write_bytes(pack(b"one\ntwo\n" * 1000))
    reader = LineReader(path, 4)
    assert len(list(reader)) == 1999
    assert reader.position.offset == 8000


def test_records_with_open_quotes_are_joined_and_an_open_one_waits(tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    path.write_text('a,"b\nc ""d""\n",e\nf\ng,"h\n')
    reader = LineReader(path)
    assert list(reader.records(b'"')) == ['a,"b\nc ""d""\n",e\n', "f\n"]
    with path.open("a") as file:
        file.write('i"\n')
    assert list(LineReader(path, reader.position.offset).records(b'"')) == ['g,"h\ni"\n']


def test_bytes_that_are_no_text_do_not_lose_the_line(tmp_path: Path) -> None:
    path = tmp_path / "a.log"
    path.write_bytes(b"caf\xe9\n")
    assert list(LineReader(path)) == ["caf\ufffd\n"]
    with pytest.raises(UnreadableInput, match="cannot be read"):
        list(LineReader(tmp_path / "none.log"))


def kept(humble: Program, *files: str, stdin: str = "") -> int:
    return int(humble.json("capture", "log", *files, stdin=stdin)["kept_runs"])


@pytest.fixture
def with_ledger(humble: Program) -> Program:
    from humble_ledger.ledger.repository import Ledger  # noqa: PLC0415

    Ledger(humble.folder / "humble.ledger", create=True).close()
    return humble


def test_a_log_that_grows_is_renamed_and_compressed_is_counted_once(with_ledger: Program) -> None:
    humble, path = with_ledger, with_ledger.folder / "server.log"
    path.write_text(log_lines(0, 10))
    assert kept(humble, "server.log") == 10
    assert kept(humble, "server.log") == 0
    with path.open("a") as file:
        file.write(log_lines(10, 15))
    assert kept(humble, "server.log") == 5
    # It grows once more, then logs rotate: a new file takes the name, the old one is packed.
    old = path.read_bytes() + log_lines(15, 18).encode()
    (humble.folder / "server.log.1.gz").write_bytes(gzip.compress(old))
    path.write_text(log_lines(30, 34))
    assert kept(humble, "server.log", "server.log.1.gz") == 3 + 4
    assert kept(humble, "server.log", "server.log.1.gz") == 0
    rows = humble.json("queries")["queries"]
    assert [row["calls"] for row in rows] == [22]


def test_standard_input_and_the_order_of_several(with_ledger: Program) -> None:
    humble = with_ledger
    assert kept(humble, "-", stdin=log_lines(0, 5)) == 5
    for name, age in (("new.log", 100), ("old.log", 900)):
        path = humble.folder / name
        path.write_text(log_lines(age // 100, age // 100 + 2))
        os.utime(path, (1e9 - age, 1e9 - age))
    assert kept(humble, "new.log", "old.log", "new.log") == 4
    assert not list(Path("/tmp").glob("humble-stdin-*"))


def test_a_compressed_log_that_breaks_off_gives_what_stands_before(with_ledger: Program) -> None:
    packed = gzip.compress(log_lines(0, 50).encode() + os.urandom(50_000))
    (with_ledger.folder / "torn.log.gz").write_bytes(packed[: len(packed) // 2])
    done = with_ledger.json("capture", "log", "torn.log.gz")
    assert done["kept_runs"] > 0
    assert done["passed_over"]["file that breaks off"] == 1


@pytest.mark.parametrize(
    "content",
    [b"", b"\x00" * 4096, os.urandom(5000), b"GET / HTTP/1.1 200\n" * 50, b"{\n" * 20, b"," * 900,
     b'"' * 901 + b"\n"],
    ids=["empty", "zeros", "noise", "another-program", "braces", "commas", "quotes"],
)  # fmt: skip
def test_what_is_no_log_is_counted_and_keeps_nothing(with_ledger: Program, content: bytes) -> None:
    (with_ledger.folder / "odd.log").write_bytes(content)
    done = with_ledger.json("capture", "log", "odd.log")
    assert done["kept_runs"] == 0
    assert done["lines"] == 0 or done["first_unreadable"].startswith("odd.log, line 1")
