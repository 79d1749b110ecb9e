"""Both kinds of ledger: a file, and a schema of a PostgreSQL server."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from pathlib import Path

import pytest

from humble_ledger.engines.postgresql.launcher import Cluster
from tests.conftest import FOUND, NEEDED_MAJOR

_COUNTER = itertools.count(1)
on_server = pytest.mark.xdist_group("team")


@pytest.fixture(scope="session")
def team_server() -> Iterator[Cluster]:
    """A server with nothing on it."""
    with Cluster(FOUND[NEEDED_MAJOR]) as cluster:
        yield cluster


@pytest.fixture
def team_place(team_server: Cluster) -> str:
    """The address of a ledger that is not there yet."""
    return f"{team_server.url('postgres')}&schema=team{next(_COUNTER)}"


@pytest.fixture(params=["file", pytest.param("server", marks=on_server)])
def place(request: pytest.FixtureRequest, tmp_path: Path) -> str:
    """Where a ledger may be kept that is not there yet, in a file or on a server."""
    if request.param == "file":
        return str(tmp_path / "l.ledger")
    return str(request.getfixturevalue("team_place"))
