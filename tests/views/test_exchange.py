"""Results in formats of other programs: what strangers wrote stays text there, too."""

from __future__ import annotations

import csv
import io

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec import Struct
from rich.console import Group
from rich.padding import Padding

from humble_ledger.views.exchange.tables import as_csv
from humble_ledger.views.terminal.markdown import as_markdown
from humble_ledger.views.terminal.parts import Hanging, labelled, plain_table
from humble_ledger.views.terminal.text import Text


class Row(Struct):
    name: str
    ms: float | None
    parts: list[str]


class Document(Struct):
    title: str
    rows: list[Row]


def _read(text: str) -> list[list[str]]:
    return list(csv.reader(io.StringIO(text, newline="")))


def test_a_table_as_csv_reads_back() -> None:
    text = as_csv(Document("t", [Row('a "b",\nc', 1.5, ["x", "y"]), Row("d", None, [])]))
    assert _read(text) == [["name", "ms", "parts"], ['a "b",\nc', "1.5", "x, y"], ["d", "", ""]]
    assert as_csv(Document("t", [])) == ""


@pytest.mark.parametrize("start", ["=", "+", "-", "@", "\t"])
def test_no_cell_is_a_formula(start: str) -> None:
    name = f"{start}cmd|' /C calc'!A0"
    assert _read(as_csv(Document("t", [Row(name, -1.0, [])])))[1] == [f"'{name}", "-1.0", ""]


def test_nothing_in_a_table_acts_on_a_terminal() -> None:
    text = as_csv(Document("t", [Row("a\x1b[31mred\u202e\x9b", 1.0, ["\x1b]0;x\x07"])]))
    assert not {"\x1b", "\u202e", "\x9b", "\x07"} & set(text)
    assert "\\x1b[31mred\\u202e" in text


def test_a_view_as_markdown() -> None:
    table = plain_table(("id", "fixed"), ("total ms", "right"), ("query", "left"))
    table.add_row("q1", "602", Text("SELECT a | b FROM t\nWHERE c < '<b>'"))
    view = Group(
        labelled(("plan", "p1"), ("empty", "")),
        table,
        Padding(Hanging("     ", "cause: no_index"), (0, 0, 0, 2)),
        Text("All of *it*."),
    )
    assert as_markdown(view) == (
        "- **plan** p1\n\n"
        "| id | total ms | query |\n"
        "| --- | ---: | --- |\n"
        "| q1 | 602 | SELECT a \\| b FROM t WHERE c &lt; '&lt;b&gt;' |\n\n"
        "cause: no\\_index\n\n"
        "All of \\*it\\*.\n"
    )


@given(st.text())
def test_no_text_leaves_its_cell(text: str) -> None:
    table = plain_table(("name", "left"), ("ms", "right"))
    table.add_row(Text(text), "1")
    lines = as_markdown(table).splitlines()
    assert len(lines) == 3
    assert lines[2].replace("\\|", "").count("|") == 3
    assert "<" not in lines[2]
