"""Nothing that a stranger wrote acts on a terminal, in a figure or in a JSON document."""

from __future__ import annotations

import io
import json
import re
import unicodedata
from pathlib import Path
from xml.etree import ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len

from humble_ledger.views import terminal
from humble_ledger.views.escaping import escaped, escaped_json, escaped_line
from humble_ledger.views.figures.plan_figure import Flow, draw_plan
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, plain_table
from humble_ledger.views.terminal.plans import plan_view
from humble_ledger.views.terminal.text import SafeConsole, Text, wrapped
from tests.plans import plan_of, step
from tests.views.test_terminal import entry

ANY = st.text(st.characters(min_codepoint=0, max_codepoint=0x10FFFF), max_size=60)
HOSTILE = "a\x1b[31m\x1b]0;title\x07\x9b2J\u202egnp.exe\u2028b\u200b\x00\r$x^2$\\frac{1}{2}\x7f漢字"


def acts(text: str) -> list[str]:
    """The characters that a terminal obeys, or that change what stands around them."""
    return [
        c
        for c in text
        if (unicodedata.category(c) in ("Cc", "Cf", "Zl", "Zp", "Cs") and c not in "\n\t")
        and c not in "\u200c\u200d\u0600\u0601\u0602\u0603\u0604\u0605\u06dd\u070f\u08e2"
        and not 0x110BD <= ord(c) <= 0x1BCA3 + 0x20000
    ]


def shown(view: object, width: int = 80) -> str:
    console = SafeConsole(file=io.StringIO(), width=width, highlight=False, color_system=None)
    console.print(view)
    return console.file.getvalue()  # type: ignore[attr-defined, no-any-return]


@given(ANY)
def test_no_character_acts_once_it_is_escaped(text: str) -> None:
    assert acts(escaped(text)) == []
    assert acts(escaped_line(text)) == [] and "\n" not in escaped_line(text)
    assert escaped(escaped(text)) == escaped(text)


@given(st.text(max_size=60))
def test_json_means_the_same_and_does_not_act(text: str) -> None:
    import msgspec  # noqa: PLC0415

    document = escaped_json(msgspec.json.encode({text: text}).decode())
    assert acts(document) == [] and "\n" not in document
    assert json.loads(document) == {text: text}


@given(ANY, st.integers(5, 60))
def test_lines_keep_to_their_width_and_lose_nothing(text: str, width: int) -> None:
    lines = wrapped(text, width)
    assert lines and all(cell_len(line) <= width for line in lines)
    assert re.sub(r"\s", "", "".join(lines)) == re.sub(r"\s", "", escaped(text))


def test_every_way_to_a_terminal_is_escaped() -> None:
    table = plain_table((HOSTILE, "left"), ("x", "right"), title=HOSTILE)
    table.add_row(HOSTILE, Text(HOSTILE, style="bold"))
    for view in (
        table,
        labelled((HOSTILE, HOSTILE)),
        HOSTILE,
        Text.assemble(HOSTILE, (HOSTILE, "bold")),
        Text("a").append(HOSTILE),
        Text("a") + HOSTILE,
    ):
        text = shown(view, 200)
        assert acts(text) == [], text
        assert "x1b" in text or "\\x1b" in text


def test_a_hostile_plan_keeps_its_columns_and_its_figure_is_well_formed(tmp_path: Path) -> None:
    condition = f"({HOSTILE} = '{HOSTILE}')"
    scan = step("Seq Scan", Relation_Name=HOSTILE, Alias=HOSTILE, Filter=condition)
    plan = plan_of(step("Sort", scan, Sort_Key=[HOSTILE]))
    for width in (80, 120):
        text = shown(plan_view(entry(plan), Numbers()), width)
        assert acts(text) == []
        assert all(cell_len(line) <= width for line in text.splitlines())
    for flow in Flow:
        for ending in ("svg", "png", "pdf"):
            draw_plan(entry(plan), Numbers(), tmp_path / f"plan.{ending}", flow)
        drawn = (tmp_path / "plan.svg").read_text()
        texts = "".join(ElementTree.fromstring(drawn).itertext())
        assert "$x^2$" in texts and acts(texts) == []


@pytest.mark.parametrize("path", sorted(Path(terminal.__file__).parent.glob("*.py")))
def test_no_view_takes_a_text_that_is_not_escaped(path: Path) -> None:
    if path.name != "text.py":
        assert "from rich.text import" not in path.read_text()
