"""Tags that statements carry in comments: any name, never part of the fingerprint."""

from __future__ import annotations

import sqlite3
from contextlib import closing

import pytest

from tests.program import Program

PREFIX = "%m [%p] %q%u@%d/%a "
LINE = (
    "2026-03-02 17:06:{second:02}.000 UTC [{pid}] humble@skerry/pool LOG:  duration: {ms:.3f} ms  "
    "statement: SELECT name FROM {table} WHERE id = {n} {comment}"
)


@pytest.fixture
def tagged(humble: Program) -> Program:
    """A log of two applications, in whose statements one says who is asking."""
    lines = []
    for n in range(40):
        app = "checkout" if n % 4 else "stock"
        comment = (
            f"/*app='{app}',route='%2Forder%2Fshow',tenant='t{n % 2}',"
            f"traceparent='00-{n:032x}-{n:016x}-01'*/"
        )
        lines.append(LINE.format(second=n, pid=100 + n, ms=10.0 + n, table="buoy", n=n,
                                 comment=comment))  # fmt: skip
    lines.append(LINE.format(second=50, pid=7, ms=500.0, table="alert", n=1, comment=""))
    (humble.folder / "tagged.log").write_text("\n".join(lines) + "\n")
    with closing(sqlite3.connect(humble.folder / "app.db")) as connection:
        connection.execute("CREATE TABLE buoy (id INTEGER PRIMARY KEY)")
    humble.ok("init", "app.db")
    return humble


def _captured(program: Program, *options: str) -> Program:
    program.ok("capture", "log", "tagged.log", "--prefix", PREFIX, *options)
    return program


def test_runs_are_counted_by_the_values_of_a_tag(tagged: Program) -> None:
    found = _captured(tagged).json("queries", "--by-tag", "app")
    assert [(v["value"], v["calls"], v["total_ms"]) for v in found["values"]] == [
        ("checkout", 30, sum(10.0 + n for n in range(40) if n % 4)),
        ("stock", 10, sum(10.0 + n for n in range(40) if n % 4 == 0)),
    ]
    assert found["untagged_ms"] == 500.0
    # What names one request is no tag; what the framework says of the route is one.
    assert set(found["names"]) == {"app", "route", "tenant"}
    shown = tagged.ok("queries", "--by-tag", "tenant").out
    assert "t1" in shown and "SELECT name FROM buoy" in shown and "Other tags: " in shown
    # One query, whatever its comments say.
    assert len(tagged.json("queries")["queries"]) == 2


def test_a_ranking_of_the_runs_with_one_value(tagged: Program) -> None:
    (row,) = _captured(tagged).json("queries", "--where", "app=stock")["queries"]
    values = [10.0 + n for n in range(40) if n % 4 == 0]
    mean = sum(values) / len(values)
    deviation = (sum((v - mean) ** 2 for v in values) / len(values)) ** 0.5
    assert row["calls"] == 10 and row["share"] == 1
    assert row["mean_ms"] == pytest.approx(mean, abs=0.001)
    assert row["deviation_ms"] == pytest.approx(deviation, abs=0.001)
    assert row["p95_ms"] is None  # only sums are kept
    assert "checkout, stock" in tagged.fails(2, "queries", "--where", "app=none")
    assert "app" in tagged.fails(2, "queries", "--where", "nothing=1")
    tagged.fails(2, "queries", "--where", "app=stock", "--by", "p95")
    tagged.fails(2, "queries", "--by-tag", "app", "--by-code")
    tagged.fails(2, "queries", "--where", "app")


def test_a_masked_capture_keeps_no_tag(tagged: Program) -> None:
    _captured(tagged, "--mask")
    assert "no captured" in tagged.fails(2, "queries", "--by-tag", "tenant").lower()


def test_too_many_values_are_counted_together(tagged: Program) -> None:
    with (tagged.folder / "tagged.log").open("w") as file:
        for n in range(900):
            line = LINE.format(second=n % 60, pid=n, ms=1.0, table="buoy", n=n,
                               comment=f"/*user='u{n}'*/")  # fmt: skip
            file.write(line + "\n")
    found = _captured(tagged).json("queries", "--by-tag", "user")
    assert sum(v["calls"] for v in found["values"]) == 900
    assert found["values"][0]["value"] == "other values"
    assert len(found["values"]) == 301


def test_without_tags_it_is_told_how_to_have_them(humble: Program) -> None:
    with closing(sqlite3.connect(humble.folder / "app.db")) as connection:
        connection.execute("CREATE TABLE buoy (id INTEGER PRIMARY KEY)")
    humble.ok("init", "app.db")
    assert "/*app='checkout'*/" in humble.fails(2, "queries", "--by-tag", "app")
