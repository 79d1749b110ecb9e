from __future__ import annotations

import io
import re
from pathlib import Path

import pytest
from rich.console import Console, RenderableType

from humble_ledger.core.entries import PlanEntry, RemedyEntry
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Prediction, Remedy
from humble_ledger.core.remedies.operations import CreateIndex, Custom
from humble_ledger.core.results.proposals import Proposals, Together
from humble_ledger.core.schema.facts import IndexKey, TableName
from humble_ledger.views.numbers import STYLES, Numbers
from humble_ledger.views.terminal.parts import bar
from humble_ledger.views.terminal.plans import plan_view
from humble_ledger.views.terminal.remedies import remedies_view
from tests.plans import RECORDED, recorded


def drawn(view: RenderableType, width: int) -> str:
    console = Console(file=io.StringIO(), width=width, highlight=False, color_system=None)
    console.print(view)
    return console.file.getvalue()  # type: ignore[attr-defined, no-any-return]


def entry(plan: Plan) -> PlanEntry:
    return PlanEntry("p1", "2026-03-01T10:00:00", "q1", "SELECT 1", (), "read", plan)


@pytest.mark.parametrize("width", [80, 120])
@pytest.mark.parametrize("path", RECORDED[::3], ids=lambda p: f"{p.parent.name}-{p.stem}")
def test_a_plan_fits_the_terminal_with_every_step_and_condition(path: Path, width: int) -> None:
    plan = recorded(int(path.parent.name), path.stem)
    text = drawn(plan_view(entry(plan), Numbers()), width)
    assert max(len(line) for line in text.splitlines()) <= width
    numbers = re.findall(r"^ *(\d+)  ", text, re.MULTILINE)
    assert numbers == [str(n) for n in range(1, len(list(plan.nodes())) + 1)]
    shown = re.sub(r"[\s│├└]", "", text)
    for node in plan.nodes():
        for condition in node.conditions.all():
            assert re.sub(r"\s", "", condition) in shown


def test_rows_far_off_are_marked_and_the_mark_explained() -> None:
    off = drawn(plan_view(entry(recorded(18, "05-alerts-of-a-crew")), Numbers()), 120)
    fine = drawn(plan_view(entry(recorded(18, "16-one-reading")), Numbers()), 120)
    assert "tenfold" in off and "tenfold" not in fine
    assert "never ran" in drawn(plan_view(entry(recorded(18, "never-ran")), Numbers()), 120)


@pytest.mark.parametrize(
    ("method", "value", "text"),
    [
        ("whole", 1234567, "1,234,567"),
        ("figure", 0.00123, "0.0012"),
        ("figure", 0.0123, "0.012"),
        ("figure", 1.234, "1.23"),
        ("figure", 12.34, "12.3"),
        ("figure", 1234.5, "1,234"),
        ("figure", 0, "0.000"),
        ("ms", 12345, "12.3 s"),
        ("ms", 1.5, "1.50 ms"),
        ("ms", None, "unknown"),
        ("percent", 0.5, "50 %"),
        ("percent", 0.0123, "1.2 %"),
        ("percent", 0.00001, "<0.1 %"),
        ("percent", 0, "0.0 %"),
        ("size", 512, "512 bytes"),
        ("size", 10 * 1024, "10.0 KiB"),
        ("size", 5 * 1024**3, "5.00 GiB"),
        ("size", None, "unknown"),
        ("times", 4.1, "4.10×"),
        ("rows", 0.333, "0.33"),
        ("rows", 1000.0, "1,000"),
    ],
)
def test_numbers(method: str, value: float | None, text: str) -> None:
    assert getattr(Numbers(), method)(value) == text


def test_every_style_writes_its_own_example() -> None:
    for style in STYLES:
        written = Numbers(style)._styled("1,234.5").replace("\u202f", " ")
        assert written == style
    assert Numbers("1.234,5").size(1536) == "1,50 KiB"


def test_bars() -> None:
    assert bar(1, 4) == "████"
    assert bar(0.5, 4) == "██"
    assert bar(0, 4) == ""
    assert bar(0.0001, 4) == "▏", "a little is not nothing"
    assert bar(7, 4) == "████"


def test_a_remedy_that_makes_a_query_clearly_dearer_says_so() -> None:
    predictions = (
        Prediction("q1", 1000, 10, "planner"),
        Prediction("q2", 100, 250, "planner"),
        Prediction("q3", 100, 110, "planner"),
    )
    remedy = Remedy(Custom(("x",), ("y",)), "an index", ("x",), ("y",), predictions=predictions)
    proposals = Proposals((RemedyEntry("r1", "2026-03-01T10:00:00", "proposed", remedy),))
    told = drawn(remedies_view(proposals, Numbers()), 120)
    assert re.search(r"q2 .* 2\.50× dearer", told), told
    assert told.count("dearer") == 1


def test_what_indexes_bring_at_once_is_told_where_all_of_them_are_shown() -> None:
    def index(number: int, gain: float) -> RemedyEntry:
        predictions = (Prediction("q3", 1000, 1000 / gain, "planner"),)
        made = CreateIndex(IndexDesign(TableName("public", "a"), (IndexKey(f"c{number}"),)), "x")
        remedy = Remedy(made, f"index {number}", ("x",), ("y",), predictions=predictions)
        return RemedyEntry(f"r{number}", "2026-03-01T10:00:00", "proposed", remedy)

    both = Together("q3", ("r1", "r2"), 1000, 80, "planner")
    proposals = Proposals((index(1, 1.5), index(2, 1.3)), together=(both,))
    told = drawn(remedies_view(proposals, Numbers()), 160)
    assert "q3 with r1 and r2 at once: cost 80.0, 12.5× cheaper (predicted)." in told
    assert "at once:  humble trial q3 --remedy r1 --remedy r2" in told
    assert "at once" not in drawn(remedies_view(proposals, Numbers(), top=1), 160)
