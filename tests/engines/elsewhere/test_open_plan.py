"""The open plan document: there and back without a loss, of recorded plans and of made ones."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from humble_ledger.core.plans.model import (
    Conditions,
    Cost,
    Discarded,
    Elapsed,
    IndexAdvice,
    Memory,
    Node,
    Operation,
    Pages,
    Plan,
    Processes,
    Role,
    Trigger,
    Visits,
    Worker,
)
from humble_ledger.core.plans.open_document import document_of, plan_in
from humble_ledger.workflow.reading.saved import saved_in
from tests.engines.elsewhere.reading import NAMES, plans_in
from tests.plans import RECORDED, recorded

ROOT = Path(__file__).resolve().parents[3]
texts = st.text(max_size=12)
amounts = st.floats(0, 1e9)
lists = st.lists(texts, max_size=2).map(tuple)


def written(plan: Plan, statement: str = "") -> Any:
    found = msgspec.to_builtins(document_of(plan, statement))
    return json.loads(json.dumps({"kind": "plan", "version": 2, **found}))


@st.composite
def nodes(draw: st.DrawFn, depth: int = 2) -> Node:
    below = draw(st.lists(nodes(depth - 1), max_size=2)) if depth else []
    return Node(
        1,
        draw(st.sampled_from(Operation)),
        draw(texts.filter(bool)),
        role=draw(st.sampled_from(Role)),
        schema=draw(texts),
        relation=draw(texts),
        alias=draw(texts),
        index=draw(texts),
        subplan_name=draw(texts),
        join_type=draw(texts),
        cost=draw(st.none() | st.builds(Cost, amounts, amounts)),
        rows_expected=draw(st.none() | amounts),
        row_width_bytes=draw(st.none() | st.integers(0, 10**6)),
        rows_seen=draw(st.none() | amounts),
        loops=draw(st.none() | amounts),
        elapsed=draw(st.none() | st.builds(Elapsed, amounts, amounts)),
        discarded=draw(st.builds(Discarded, *[st.none() | amounts] * 3)),
        pages=draw(st.none() | st.builds(Pages, *[st.integers(0, 10**6)] * 6)),
        conditions=draw(st.builds(Conditions, lists, lists, lists, lists)),
        sort_keys=draw(lists),
        presorted_keys=draw(lists),
        group_keys=draw(lists),
        output=draw(lists),
        processes=draw(
            st.none()
            | st.builds(
                Processes,
                st.integers(0, 9),
                st.none() | st.integers(0, 9),
                st.lists(st.builds(Worker, amounts, amounts, amounts), max_size=2).map(tuple),
            )
        ),
        memory=draw(
            st.none()
            | st.builds(
                Memory,
                texts,
                st.none() | st.integers(0),
                st.integers(0),
                st.none() | st.integers(0),
            )
        ),
        parallel_aware=draw(st.booleans()),
        by_hash=draw(st.booleans()),
        disabled=draw(st.booleans()),
        cte_name=draw(texts),
        share_unknown=draw(st.booleans()),
        visits=draw(st.builds(Visits, *[amounts] * 6)),
        details=draw(st.dictionaries(texts, st.none() | texts | st.integers(), max_size=2)),
        remarks=draw(lists),
        children=tuple(below),
    )


def renumbered(node: Node, numbers: Iterator[int]) -> Node:
    no = next(numbers)
    return replace(node, no=no, children=tuple(renumbered(c, numbers) for c in node.children))


@settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
@given(
    root=nodes(),
    measured=st.booleans(),
    took=st.none() | amounts,
    words=st.dictionaries(texts, texts, max_size=2),
    remarks=lists,
    statement=texts,
)
def test_any_plan_goes_there_and_back(
    root: Node, measured: bool, took: float | None, words: dict[str, str], remarks: tuple[str, ...],
    statement: str,
) -> None:  # fmt: skip
    plan = Plan(
        "pebble", "1.0", renumbered(root, iter(range(1, 1000))), measured,
        planning_ms=took, execution_ms=took, engine_settings=words,
        triggers=(Trigger("t", 1.0, took),), compile_ms=took, own_estimates=measured,
        details=dict(words), remarks=remarks,
        advice=(IndexAdvice("reading", equal=remarks, gain_share=0.5),),
    )  # fmt: skip
    document = written(plan, statement)
    assert plan_in(document) == plan
    assert written(plan_in(document), statement) == document


def test_every_recorded_plan_goes_there_and_back() -> None:
    plans = [recorded(int(path.parent.name), path.stem) for path in RECORDED]
    plans += [saved.plan for name in NAMES for saved in plans_in(name)]
    assert len(plans) > 100
    for plan in plans:
        assert plan_in(written(plan)) == msgspec.convert(
            json.loads(msgspec.json.encode(plan)), Plan
        )


def test_the_worked_examples_of_the_documentation() -> None:
    page = (ROOT / "docs" / "formats" / "plan.md").read_text()
    examples = re.findall(r"```json\n(.*?)```", page, re.DOTALL)
    assert len(examples) == 3
    for example in examples:
        saved = saved_in(example)
        assert saved is not None and len(list(saved.entry.plan.nodes())) > 1


@pytest.mark.parametrize(
    ("document", "told"),
    [
        ({"kind": "plan"}, "engine"),
        ({"kind": "plan", "version": 9, "engine": {"name": "x"}, "root": {}}, "version 9"),
        ({"kind": "plan", "engine": {"name": "x"}, "root": {"rows_expected": "many"}},
         r"root.rows_expected"),
        ({"kind": "plan", "engine": {"name": "x"}, "root": {"children": [{"loops": -1}]}},
         r"root.children\[0\].loops"),
        ({"kind": "plan", "engine": {"name": "x"}, "root": {"role": "boss"}}, "role"),
    ],
)  # fmt: skip
def test_what_is_wrong_in_a_document_is_told_with_its_place(document: Any, told: str) -> None:
    with pytest.raises(ValueError, match=told):
        plan_in(document)


def test_what_nobody_knows_is_kept() -> None:
    plan = plan_in(
        {
            "kind": "plan", "engine": {"name": "x"}, "novelty": 1,
            "root": {"operation": "quantum_fold", "folds": 7},
        }
    )  # fmt: skip
    assert plan.root.operation is Operation.OTHER and plan.root.label == "quantum fold"
    assert plan.root.details == {"operation": "quantum_fold", "folds": 7}
    assert plan.details == {"novelty": 1}
