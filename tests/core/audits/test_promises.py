"""How a promise stands."""

from __future__ import annotations

import pytest

from humble_ledger.core.audits.promises import BROKEN, Promise, Standing, judge_promise
from humble_ledger.views.wording import in_words

PROMISE = Promise("t1", "2026-11-01", "q1", ("r1",), "index on a (b)", 1_000.0, 100.0, 0.1)


@pytest.mark.parametrize(
    ("facts", "standing", "words"),
    [
        ({"used": True, "cost_now": 101.0}, Standing.HELD, "as good"),
        ({"used": True, "cost_now": 149.0}, Standing.HELD, "as good"),
        ({"used": True, "cost_now": 160.0}, Standing.DEARER, "1.6 times"),
        ({"used": None, "cost_now": 90.0}, Standing.HELD, "as good"),
        ({"used": False, "cost_now": 90.0}, Standing.NOT_USED, "does not use"),
        (
            {"missing": "no index", "used": False, "cost_now": 1_000.0},
            Standing.NOT_MADE,
            "no index",
        ),
        ({"unseen": "the application sends it"}, Standing.UNKNOWN, "application"),
        ({"used": True}, Standing.UNKNOWN, "not known"),
    ],
)
def test_a_promise_stands_by_what_is_found(
    facts: dict[str, object], standing: Standing, words: str
) -> None:
    found = judge_promise(PROMISE, **facts)  # type: ignore[arg-type]
    assert found.standing is standing and words in in_words(found.words)
    assert (found.standing in BROKEN) is (standing.value in ("not-made", "not-used", "dearer"))
