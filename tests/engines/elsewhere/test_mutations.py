"""Torn, cut and scrambled documents: read as far as they go, or refused with a place."""

from __future__ import annotations

import random

import pytest

from humble_ledger.errors import HumbleError, UnreadableInput
from humble_ledger.workflow.reading.saved import saved_in
from tests.engines.elsewhere.reading import FOLDER, NAMES

EACH = 12


def changed(text: str, draw: random.Random) -> str:
    lines = text.splitlines(keepends=True)
    place = draw.randrange(max(1, len(text)))
    ways = (
        lambda: text[:place],
        lambda: text[place:],
        lambda: "".join(line for line in lines if draw.random() > 0.1),
        lambda: "".join(draw.sample(lines, len(lines))),
        lambda: text[:place] + draw.choice('{}[]<>"|•·-1e999\x00\n') + text[place + 1 :],
        lambda: text.replace(
            draw.choice(("1", "0", "2")), draw.choice(("-", "9" * 400, "NaN", ""))
        ),
        lambda: text[:place] + text[draw.randrange(len(text)) :],
        lambda: "".join(line.lstrip() for line in lines),
    )
    return draw.choice(ways)()


@pytest.mark.parametrize("folder", ["sqlserver", "oracle", "cockroachdb", "duckdb", "soql"])
def test_no_document_is_too_broken_to_be_refused_politely(folder: str) -> None:
    draw, refused = random.Random(folder), 0
    for name in (n for n in NAMES if n.startswith(folder)):
        text = (FOLDER / name).read_text()
        for _ in range(EACH):
            try:
                saved = saved_in(changed(text, draw))
            except UnreadableInput as error:
                refused += 1
                assert error.exit_code == 4 and error.message and error.hint, name
            except HumbleError as error:  # none but that is meant
                raise AssertionError(f"{name}: {error!r}") from error
            else:
                assert saved is None or saved.entry.plan.root is not None
    assert refused > 0


@pytest.mark.parametrize(
    ("name", "cut", "place"),
    [
        ("sqlserver/scan-actual.xml", 0.6, "line"),
        ("duckdb/group-measured-2.0.1.json", 0.5, "line"),
        ("soql/two-indexes.json", 0.5, "line"),
    ],
)
def test_where_a_document_breaks_off_is_told(name: str, cut: float, place: str) -> None:
    text = (FOLDER / name).read_text()
    with pytest.raises(UnreadableInput, match=place.replace("|", r"\|")):
        saved_in(text[: int(len(text) * cut)])


def test_a_table_without_steps_and_steps_without_blanks() -> None:
    text = (FOLDER / "oracle/allstats-join.txt").read_text()
    with pytest.raises(UnreadableInput, match="no step below the head"):
        saved_in(text[: text.index("Reads |") + 8])
    with pytest.raises(UnreadableInput, match="blanks before the operations are lost"):
        saved_in(text.replace("  HASH", " HASH").replace("   TABLE", " TABLE"))


def test_a_tree_without_end_is_refused() -> None:
    deep = "\n".join(" " * n + "• scan" for n in range(3000))
    with pytest.raises(UnreadableInput, match="deep"):
        saved_in(f"distribution: local\n{deep}")
    nested = '{"extra_info": {"Estimated Cardinality": "1"}, "name": "FILTER", "children": ['
    with pytest.raises(UnreadableInput):
        saved_in(nested * 3000 + "]}" * 3000)
    xml = "<ShowPlanXML><QueryPlan>" + '<RelOp PhysicalOp="Top"><Top>' * 3000
    with pytest.raises(UnreadableInput):
        saved_in(xml + "</Top></RelOp>" * 3000 + "</QueryPlan></ShowPlanXML>")
