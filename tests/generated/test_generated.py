"""Statements drawn at random go through every command: no traceback, no question refused.

Few here, the same ones in CI each time; `python -m benchmarks.generated` takes thousands, and
those of a generator from elsewhere.
"""

from __future__ import annotations

import os
from pathlib import Path
from random import Random

import pytest

from humble_ledger.engines.postgresql.launcher import Cluster
from tests.conftest import FOUND, MAJORS
from tests.generated.going_through import go_through, ground

STATEMENTS = int(os.environ.get("HUMBLE_STATEMENTS", "3"))
SEED = 0 if os.environ.get("CI") else int.from_bytes(os.urandom(3))


@pytest.mark.parametrize(
    "major",
    [pytest.param(m, marks=pytest.mark.xdist_group(f"generated{m}")) for m in MAJORS if m in FOUND],
)
def test_statements_that_nobody_wrote_go_through(major: int, tmp_path: Path, hollows: Path) -> None:
    random = Random(f"{SEED} {major}")
    with Cluster(FOUND[major]) as cluster, ground(cluster, random, tmp_path) as place:
        gone = go_through(place, random, STATEMENTS)
    assert not gone.faults, (SEED, gone.faults)
    assert gone.statements == STATEMENTS > gone.refused
