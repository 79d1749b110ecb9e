"""Saved plans of strangers: whatever they hold, they are read or refused, quickly and in words."""

from __future__ import annotations

import copy
import json
import os
import random
import re
import resource
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import msgspec
import pytest

from humble_ledger.core.plans.arithmetic import accounts
from humble_ledger.core.plans.limits import MOST_DEPTH
from humble_ledger.core.plans.tables import join_graph, table_accounts
from humble_ledger.engines.postgresql.plans.reader import read_plan
from humble_ledger.engines.postgresql.plans.saved import document_of
from humble_ledger.errors import UnreadableInput
from humble_ledger.views.documents.plans import plan_document
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.plan_forms import PlanForm, PlanShape, chosen_columns
from humble_ledger.views.terminal.plans import plan_view
from tests.plans import RECORDED
from tests.program import Program
from tests.views.test_escaping import shown
from tests.views.test_terminal import entry

FOLDER = Path(__file__).parent.parent / "fixtures" / "plans"
LONGEST_S = 20.0
COLUMNS = chosen_columns("", ())
ODD: list[Any] = [
    None, True, "", "x", "2026-01-01", -1, 0, 1e308, float("inf"), float("nan"), 10**5000, [], {},
    [None], [[[]]], {"a": {}}, "\u202e\x1b[2J", "9" * 400, 1e-300, "$x$", ["a", 7], "NaN", -0.0,
]  # fmt: skip


def used(text: str) -> None:
    """All that is done with a saved plan before anyone sees it; refusals are no failures."""
    began = time.process_time()
    try:
        plan = read_plan(document_of(text), "")
        accounts(plan)
        table_accounts(plan)
        join_graph(plan)
        msgspec.json.encode(plan_document(entry(plan)))
        for form in (PlanShape.TREE, PlanShape.STEPS, PlanShape.TABLE):
            shown(plan_view(entry(plan), Numbers(), PlanForm(form, columns=COLUMNS)))
    except UnreadableInput as error:
        assert len(error.message) < 500, error.message
    assert time.process_time() - began < LONGEST_S, text[:300]


def places(part: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Every place in a document."""
    yield path
    items = (
        part.items()
        if isinstance(part, dict)
        else enumerate(part)
        if isinstance(part, list)
        else ()
    )
    for key, each in items:
        yield from places(each, (*path, key))


def mutated(document: Any, draw: random.Random) -> Any:
    """The document with one to three of its parts replaced, dropped, doubled or renamed."""
    found = copy.deepcopy(document)
    for _ in range(draw.choice((1, 1, 2, 3))):
        if not isinstance(found, dict | list) or not found:
            return found
        *way, last = draw.choice([p for p in places(found) if p])
        part = found
        for key in way:
            part = part[key]
        act = draw.randrange(4)
        if act == 0:
            part[last] = copy.deepcopy(draw.choice(ODD))
        elif act == 1:
            del part[last]
        elif act == 2 and isinstance(part, list):
            part.append(copy.deepcopy(part[last]))
        elif isinstance(part, dict):
            part[draw.choice(["Plans", "Actual Loops", "Workers", "Sort Key", "x"])] = part[last]
    return found


def torn(text: str, draw: random.Random) -> str:
    """The text with pieces cut out, doubled, or overwritten."""
    for _ in range(draw.choice((1, 2, 4))):
        place, length = draw.randrange(len(text) + 1), draw.choice((1, 3, 20, 200))
        piece = draw.choice(
            ["", text[place : place + length] * 2, "9" * 500, "\x00", "(cost=", "->  ", "\t", "<",
             "&a", "*a", "- ", "{", "]", ": ", "\u202e", "nan", "1.1.1.1", "\n\n", "  "]
        )  # fmt: skip
        text = text[:place] + piece + text[place + length :]
    return text


FORMS = {"JSON": "*.json", "text": "*.txt", "YAML": "*.yaml", "XML": "*.xml"}
TIMES = int(os.environ.get("HUMBLE_FUZZ", "1"))


@pytest.mark.parametrize("path", RECORDED, ids=lambda p: f"{p.parent.name}-{p.stem}")
def test_every_recorded_plan_may_be_changed_in_any_way(path: Path) -> None:
    draw = random.Random(str(path.relative_to(FOLDER)))
    document = json.loads(path.read_text())
    for _ in range(TIMES):
        changed = mutated(document, draw)
        used(_written(changed))
        for form in (_as_yaml, _as_xml, _as_text):
            used(torn(form(document), draw))
            used(form(changed))


def _written(document: Any) -> str:
    """As JSON, with numbers of any size."""
    import sys  # noqa: PLC0415

    limit = sys.get_int_max_str_digits()
    sys.set_int_max_str_digits(0)
    try:
        return json.dumps(document)
    finally:
        sys.set_int_max_str_digits(limit)


def _shown(value: Any) -> str:
    return value if isinstance(value, str) else _written(value)


def _as_yaml(document: Any) -> str:
    lines = _written(document)
    # A JSON document is YAML, too; a server begins each object on a line of its own.
    return "- Plan: " + lines[lines.find(":") + 1 :].rstrip("}] ") + "}"


def _as_xml(document: Any) -> str:
    def element(name: str, value: Any) -> str:
        tag = re.sub(r"[^A-Za-z0-9-]", "-", name) or "x"
        if isinstance(value, dict):
            inner = "".join(element(str(k), v) for k, v in value.items())
        elif isinstance(value, list):
            inner = "".join(element({"Plans": "Plan"}.get(name, "Item"), each) for each in value)
        else:
            text = str(value) if not isinstance(value, int) or abs(value) < 1e300 else "9" * 5000
            inner = (
                re.sub(r"[\x00-\x08\x0b-\x1f]", "?", text)
                .replace("&", "&amp;")
                .replace("<", "&lt;")
            )
        return f"<{tag}>{inner}</{tag}>"

    top = document[0] if isinstance(document, list) and document else document
    return f"<explain>{element('Query', top)}</explain>"


def _as_text(document: Any) -> str:
    lines: list[str] = []

    def line(node: Any, depth: int) -> None:
        if not isinstance(node, dict):
            lines.append("  " * depth + "->  ?")
            return
        arrow = "->  " if depth else ""
        figures = "  (cost={}..{} rows={} width={})".format(
            *(_shown(node.get(k, 0))[:50] for k in ("Startup Cost", "Total Cost", "Plan Rows", "Plan Width"))
        ) if abs_small(node) else ""  # fmt: skip
        lines.append(" " * (6 * depth) + f"{arrow}{_shown(node.get('Node Type', '?'))}{figures}")
        for key in ("Filter", "Index Cond", "Sort Key", "Sort Method", "Buffers"):
            if key in node:
                lines.append(" " * (6 * depth + 6) + f"{key}: {_shown(node[key])[:200]}")
        children = node.get("Plans")
        for child in children if isinstance(children, list) else ():
            line(child, depth + 1)

    top = document[0] if isinstance(document, list) and document else document
    line(top.get("Plan") if isinstance(top, dict) else top, 0)
    return "\n".join(lines)


def abs_small(node: dict[str, Any]) -> bool:
    return not any(
        isinstance(v, int) and not isinstance(v, bool) and abs(v) > 1e300 for v in node.values()
    )


def nested(levels: int, begin: str, end: str, inside: str) -> str:
    return begin * levels + inside + end * levels


STEP = '{"Node Type":"Limit","Total Cost":1,"Plans":['
LARGE: dict[str, Callable[[], str]] = {
    "ten thousand steps below each other": lambda: '{"Plan":' + nested(10_000, STEP, "]}", "") + "}",
    "a hundred thousand brackets": lambda: '{"Plan":' + "[" * 100_000,
    "a hundred thousand braces": lambda: '{"a":' * 100_000,
    "millions of empty lists": lambda: '{"Plan":{"Plans":[' + "[]," * 3_000_000 + "[]]}}",
    "a hundred thousand steps": lambda: '{"Plan":{"Node Type":"Append","Plans":['
    + ",".join(['{"Node Type":"Result"}'] * 100_000) + "]}}",
    "a number of a million digits": lambda: '{"Plan":{"Total Cost":' + "9" * 1_000_000 + "}}",
    "a condition of 60 MB": lambda: '{"Plan":{"Node Type":"Result","Filter":"' + "(" * 60_000_000 + '"}}',
    "a plan of 100 MB": lambda: '{"Plan":{"Node Type":"' + "x" * 100_000_000 + '"}}',
    "aliases of aliases": lambda: "- Plan:\n    a: &a [x,x,x,x,x,x,x,x,x]\n"
    + "".join(f"    {b}: &{b} [{','.join(['*' + a] * 9)}]\n" for a, b in zip("abcdefgh", "bcdefghi", strict=True)),
    "YAML that merges": lambda: "- Plan:\n    a: &a {x: 1}\n    <<: *a\n",
    "YAML of ten thousand levels": lambda: "- Plan: " + "[" * 10_000,
    "YAML of dates and minutes": lambda: '- Plan:\n    Node Type: 2026-01-01\n    Total Cost: 1:30:00\n',
    "YAML that makes objects": lambda: "- Plan: !!python/object/apply:os.system ['true']\n",
    "XML of entities": lambda: '<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "x">'
    + "".join(f'<!ENTITY c{n} "{"&c" + str(n - 1) + ";" if n else "&b;"}">' for n in range(9))
    + "]><explain><Query><Plan>&c8;</Plan></Query></explain>",
    "XML of ten thousand levels": lambda: "<explain><Query>" + nested(10_000, "<Plan>", "</Plan>", ""),
    "XML of a million elements": lambda: "<explain><Query><Plan>" + "<a/>" * 4_000_000,
    "text of a million tabs": lambda: "Seq Scan on a  (cost=1.0..1.0 rows=1 width=1)\n" + "\t" * 1_000_000 + "x",
    "text of a million dots": lambda: "Seq Scan on a  (cost=" + "1." * 1_000_000,
    "a label of a million words": lambda: "Seq Scan" + " on a" * 1_000_000,
    "a trigger of a million words": lambda: "Result  (cost=0.00..0.01 rows=1 width=4)\nTrigger " + " on a" * 500_000,
    "a ruler that is none": lambda: "Result  (cost=0.00..0.01 rows=1 width=4)\n" + "-" * 1_000_000 + "x",
    "a million capitals": lambda: "Result  (cost=0.00..0.01 rows=1 width=4)\n  A: " + "A" * 1_000_000,
    "a million line ends": lambda: "\n" * 3_000_000 + "->",
    "ten thousand arrows": lambda: "\n".join(" " * (6 * n) + "->  Limit" for n in range(3000)),
    "arrows of a million blanks": lambda: "Limit  (cost=0.00..0.01 rows=1 width=4)\n" + " " * 1_000_000 + "->  Limit",
}  # fmt: skip


@pytest.mark.parametrize("name", LARGE)
def test_what_is_made_to_grow_is_refused_before_it_does(humble: Program, name: str) -> None:
    path = humble.folder / "plan.txt"
    path.write_text(LARGE[name]())
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    for command in (
        ("plan", "plan.txt"),
        ("plan", "@plan.txt", "--as", "steps"),
        ("diagnose", "plan.txt"),
    ):
        done = humble.run(*command)
        assert done.code in (0, 2, 4), (done.out[:500], done.err)
        if done.code:
            assert len(done.err) < 1000 and len(done.err.splitlines()) <= 3, done.err[:1000]
    assert before is not None


def test_a_plan_as_deep_as_is_read_can_be_shown_in_every_way(humble: Program) -> None:
    text = (
        '{"Plan":'
        + nested(MOST_DEPTH - 5, STEP, "]}", '{"Node Type":"Result","Total Cost":1}')
        + "}"
    )
    (humble.folder / "plan.json").write_text(text)
    for form in ("tree", "table", "steps", "figure"):
        humble.ok("plan", "plan.json", "--as", form)
    assert len(humble.json("plan", "plan.json")["root"]["children"]) == 1
    humble.ok("diagnose", "plan.json")
    humble.ok("compare", "plan.json", "plan.json")


def test_a_file_without_end_is_not_read_to_its_end(humble: Program) -> None:
    with (humble.folder / "huge.json").open("wb") as file:
        file.truncate(50 * 1024**3)  # holes, which take no room
    for what in ("huge.json", "@huge.json"):
        assert "64 MiB" in humble.fails(4, "plan", what)


def test_a_field_that_does_not_fit_is_named_with_its_step(humble: Program) -> None:
    plan = {
        "Plan": {"Node Type": "Limit", "Plans": [{"Node Type": "Sort", "Plan Rows": "2026-01-01"}]}
    }
    (humble.folder / "plan.json").write_text(json.dumps(plan))
    said = humble.fails(4, "plan", "plan.json")
    assert "\"Plan Rows\" of step 2 is '2026-01-01', not a number" in said
