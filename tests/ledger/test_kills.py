"""What was said to be saved is there, and every chain is complete, whatever is killed when."""

from __future__ import annotations

from pathlib import Path

from tests.ledger.kills import killed_at_random


def test_nothing_that_was_said_is_lost_when_writers_are_killed(tmp_path: Path) -> None:
    said, wrong = killed_at_random(str(tmp_path / "l.ledger"), rounds=6, seed=11)
    assert wrong == []
    assert said > 30
