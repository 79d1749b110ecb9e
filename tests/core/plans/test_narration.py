from __future__ import annotations

import re

import pytest

from humble_ledger.core.plans.narration import narrate
from tests.plans import RECORDED, recorded


@pytest.mark.parametrize("path", RECORDED, ids=lambda p: f"{p.parent.name}-{p.stem}")
def test_every_step_is_told_once_and_after_its_inputs(path) -> None:  # type: ignore[no-untyped-def]
    plan = recorded(int(path.parent.name), path.stem)
    told = narrate(plan, lambda count: f"{count:,.0f}")
    assert sorted(each.step for each in told) == [node.no for node in plan.nodes()]
    place = {each.step: each.number for each in told}
    for node in plan.nodes():
        for child in node.children:
            assert place[child.no] < place[node.no]
    for each in told:
        assert each.words.endswith(".") and "None" not in each.words
        # What a sentence refers to has been told before.
        assert all(int(n) < each.number for n in re.findall(r"\((\d+)\)(?! of|,)", each.words)[:1])
    assert sum(each.share for each in told) == pytest.approx(1, abs=0.02)


def test_a_scan_says_what_it_read_and_kept() -> None:
    told = narrate(recorded(18, "01-readings-of-a-sensor"), lambda count: f"{count:,.0f}")
    # The server rounds rows to whole ones per process.
    assert re.match(r"Read about 1,500,00\d rows of reading, and keep the \d+ that", told[0].words)
    assert told[0].expected is not None and told[0].seen is not None


def test_what_never_ran_is_said_so() -> None:
    told = narrate(recorded(18, "never-ran"), lambda count: f"{count:,.0f}")
    assert any("never ran" in each.words for each in told)
    assert narrate(recorded(18, "nothing"), str)[0].words
