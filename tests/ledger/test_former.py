"""Ledgers of every former version, each written by the program of its time, are read as new ones.

Each has one log captured, a measured plan, its symptoms, remedies, and a settled trial.
"""

from __future__ import annotations

import gzip
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from humble_ledger.ledger.upgrading import NEWEST
from tests.program import Program

FORMER = sorted((Path(__file__).parent / "former").glob("*.ledger.gz"))
SHOWN = (
    ("history",), ("queries",), ("show", "q1"), ("show", "p1"), ("show", "s1"), ("show", "r1"),
    ("show", "t1"), ("show", "k1"), ("history", "--predictions"), ("plan", "p1", "--as", "steps"),
)  # fmt: skip


def unpacked(humble: Program, path: Path) -> Path:
    ledger = humble.folder / "humble.ledger"
    ledger.write_bytes(gzip.decompress(path.read_bytes()))
    return ledger


def changed(ledger: Path, sql: str, *values: object) -> None:
    with closing(sqlite3.connect(ledger)) as connection:
        assert connection.execute(sql, values).rowcount > 0
        connection.commit()


def test_there_is_one_of_every_version_before_this() -> None:
    assert [p.name[:4] for p in FORMER] == [f"{n:04}" for n in range(1, int(NEWEST))]


@pytest.mark.parametrize("path", FORMER, ids=lambda p: p.name[:4])
def test_each_is_upgraded_and_shown(humble: Program, path: Path) -> None:
    unpacked(humble, path)
    for command in SHOWN:
        assert humble.ok(*command).out.strip()
    assert humble.json("queries")["queries"][0]["calls"] == 2
    found = {each["name"] for each in humble.json("show", "s1")["symptoms"]}
    assert found & {"row-misestimate", "selective-full-scan", "index-scan-discards-most"}
    (symptom,) = humble.json("show", "s1")["symptoms"]
    assert " rows" in symptom["summary"] and symptom["cause"]["detail"]
    assert symptom["summary"] in " ".join(humble.ok("show", "s1").out.split())
    assert humble.json("show", "t1")["verdict"]


def test_names_of_symptoms_are_carried_over(humble: Program) -> None:
    ledger = unpacked(humble, FORMER[4])  # the last with other names
    old, new = "sort-an-index-would-spare", "sort-without-index"
    changed(
        ledger,
        "UPDATE symptoms SET name = ?, body = CAST(replace(body, name, ?) AS BLOB) WHERE id = 1",
        old,
        old,
    )
    changed(
        ledger, "UPDATE remedies SET body = CAST(replace(body, 'row-misestimate', ?) AS BLOB)", old
    )
    assert new in {each["name"] for each in humble.json("show", "s1")["symptoms"]}
    assert new in humble.ok("show", "s1").out
    with closing(sqlite3.connect(ledger)) as connection:
        assert not connection.execute(
            "SELECT id FROM remedies WHERE instr(body, ?)", (old,)
        ).fetchall()


@pytest.mark.parametrize(
    ("table", "id_", "body"),
    [
        ("plans", "p1", b'{"body_version":99,"body":{}}'),
        ("plans", "p1", b'{"engine":"postgresql","root":{"operation":"teleport"}}'),
        ("symptoms", "s1", b'{"body_version":1,"body":{"name":1}}'),
        ("remedies", "r1", b'{"body_version":x'),
        ("trials", "t1", b"\xff\x00"),
    ],
)
def test_a_word_that_is_not_known_is_told_with_its_entry(
    humble: Program, table: str, id_: str, body: bytes
) -> None:
    ledger = unpacked(humble, FORMER[-1])
    humble.ok("history")  # upgrades it
    changed(ledger, f"UPDATE {table} SET body = ?", body)
    said = humble.fails(3, "show", id_)
    assert f"The entry {id_} of this ledger cannot be read" in said and "version" in said
    humble.ok("history")
