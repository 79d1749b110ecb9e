from __future__ import annotations

import gzip
import lzma
import os
import random
from pathlib import Path

import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st

from humble_ledger.capture.files import LONGEST_ENTRY, Cutter, LogReader, position_of
from humble_ledger.engines.postgresql.logs.formats import JsonLog, PlainLog
from humble_ledger.engines.postgresql.logs.plain import last_cut, plain_rows
from humble_ledger.engines.postgresql.logs.structured import last_csv_cut
from humble_ledger.errors import UnreadableInput
from tests.program import Program

HEAD = "2026-03-01 10:00:{n:02d}.500 UTC [7] me@skerry/app LOG:  duration: 1.5 ms  statement: "


def log_lines(first: int, last: int) -> str:
    return "".join(f"{HEAD.format(n=n)}SELECT {n} FROM t\n" for n in range(first, last))


LINES = JsonLog.cutter


def lines_of(reader: LogReader, cutter: Cutter = LINES) -> tuple[bytes, int]:
    """Everything a reader gives, and the place behind it."""
    blocks = list(reader.blocks(cutter))
    return b"".join(block.data for block in blocks), blocks[-1].end if blocks else 0


def test_going_on_where_it_stopped(tmp_path: Path) -> None:
    path = tmp_path / "a.log"
    path.write_text("one\ntwo\nthr")
    data, end = lines_of(LogReader(path))
    assert (data, end) == (b"one\ntwo\n", 8), "a line without its end is left for later"
    at = LogReader(path).position_at(end)
    with path.open("a") as file:
        file.write("ee\nfour\n")
    assert position_of(path, [at]) == at
    assert lines_of(LogReader(path, at.offset)) == (b"three\nfour\n", 19)
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
    data, end = lines_of(LogReader(path, 4))
    assert data.count(b"\n") == 1999
    assert end == 8000


def test_a_csv_block_ends_where_no_quote_is_open(tmp_path: Path) -> None:
    assert last_csv_cut(b'a,"b\nc ""d""\n",e\nf\ng,"h\n') == 19
    assert last_csv_cut(b'a,"b\nc') is None
    assert last_csv_cut(b"a\nb") == 2


@given(st.lists(st.sampled_from(["a", "b\tc", "x" * 40]), max_size=30), st.integers(1, 64))
def test_however_a_log_is_cut_the_same_entries_come(texts: list[str], size: int) -> None:
    head = "2026-03-01 10:00:00.500 UTC [7] me@skerry/app "
    log = "".join(
        f"{head}LOG:  duration: 1.0 ms  statement: SELECT {n}\n\t{text}\n"
        f"{head}DETAIL:  Parameters: $1 = '{n}'\n"
        for n, text in enumerate(texts)
    ).encode()
    whole = plain_rows(log, None).rows
    parts, held = [], b""
    for start in range(0, len(log), size):
        held += log[start : start + size]
        cut = last_cut(held)
        if cut:
            parts.append(held[:cut])
            held = held[cut:]
    parts.append(held)
    assert b"".join(parts) == log
    rows = [row[:4] + row[6:] for part in parts for row in plain_rows(part, None).rows]
    assert rows == [row[:4] + row[6:] for row in whole]


def test_an_entry_of_many_megabytes_is_skipped_and_the_rest_kept(tmp_path: Path) -> None:
    path = tmp_path / "big.log"
    huge = HEAD.format(n=5) + "SELECT '" + "x" * (LONGEST_ENTRY * 3) + "'\n"
    path.write_text(log_lines(0, 3) + huge + log_lines(10, 14))
    blocks = list(LogReader(path).blocks(PlainLog.cutter))
    assert sum(block.too_long for block in blocks) == 1
    assert b"".join(block.data for block in blocks).count(b"SELECT") == 7
    assert max(len(block.data) for block in blocks) < LONGEST_ENTRY
    assert blocks[-1].end == path.stat().st_size


def test_what_cannot_be_opened(tmp_path: Path) -> None:
    with pytest.raises(UnreadableInput, match="cannot be read"):
        lines_of(LogReader(tmp_path / "none.log"))


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
    [b"", b"\x00" * 4096, random.Random(7).randbytes(5000), b"GET / HTTP/1.1 200\n" * 50,
     b"{\n" * 20, b"," * 900, b'"' * 901 + b"\n"],
    ids=["empty", "zeros", "noise", "another-program", "braces", "commas", "quotes"],
)  # fmt: skip
def test_what_is_no_log_is_told_with_its_place(with_ledger: Program, content: bytes) -> None:
    (with_ledger.folder / "odd.log").write_bytes(content)
    if not content.count(b"\n"):
        assert kept(with_ledger, "odd.log") == 0
        return
    assert "odd.log, line 1" in with_ledger.fails(4, "capture", "log", "odd.log")
    (with_ledger.folder / "good.log").write_text(log_lines(0, 4))
    done = with_ledger.json("capture", "log", "odd.log", "good.log")
    assert done["kept_runs"] == 4
    assert done["first_unreadable"].startswith("odd.log, line 1")
