"""What was said to be saved is there, and every chain is complete, whatever is killed when."""

from __future__ import annotations

from tests.ledger.kills import killed_at_random


def test_nothing_that_was_said_is_lost_when_writers_are_killed(place: str) -> None:
    said, wrong = killed_at_random(place, rounds=4, seed=11)
    assert wrong == []
    assert said > 15
