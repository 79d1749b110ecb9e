"""The guarded servers, one of each version that is found."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterable, Iterator
from pathlib import Path

import pytest

from humble_ledger.engines.postgresql.launcher import Cluster
from tests.conftest import FOUND, MAJORS, NEEDED_MAJOR, clean_environment
from tests.program import Program
from tests.security.guarded import Guarded, guarded_server


def _servers(majors: tuple[int, ...]) -> list[object]:
    return [
        pytest.param(m, id=f"pg{m}", marks=[pytest.mark.server, pytest.mark.xdist_group(f"pg{m}")])
        for m in majors
        if m == NEEDED_MAJOR or m in FOUND
    ]


def shared_out(names: Iterable[str]) -> list[object]:
    """Cases for (guarded, name), each on one of the versions, in turn."""
    majors = [m for m in MAJORS if m == NEEDED_MAJOR or m in FOUND]
    found = []
    for number, name in enumerate(names):
        major = majors[number % len(majors)]
        group = [pytest.mark.server, pytest.mark.xdist_group(f"pg{major}")]
        found.append(pytest.param(major, name, id=f"pg{major}-{name}", marks=group))
    return found


only_newest = pytest.mark.parametrize("guarded", _servers((NEEDED_MAJOR,)), indirect=True)


@pytest.fixture(scope="module", params=_servers(MAJORS))
def guarded(request: pytest.FixtureRequest) -> Iterator[Guarded]:
    """Each server version in turn, with everything in it that acts."""
    # The server's own user must be able to write there, or no file could ever betray an attack.
    with (
        tempfile.TemporaryDirectory(dir="/var/tmp") as folder,
        Cluster(FOUND[request.param], {"max_prepared_transactions": "5"}) as cluster,
    ):
        Path(folder).chmod(0o755)
        with guarded_server(cluster, Path(folder) / "marks") as server:
            yield server


@pytest.fixture(scope="module")
def aimed_folder(guarded: Guarded, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder whose target is the guarded server; to be copied."""
    program = Program(tmp_path_factory.mktemp("aimed"), clean_environment())
    program.ok("init", guarded.url, "--role", "scratch")
    return program.folder


@pytest.fixture
def aimed(humble: Program, aimed_folder: Path) -> Program:
    """The program in a folder whose target is the guarded server."""
    shutil.copytree(aimed_folder, humble.folder, dirs_exist_ok=True)
    return humble
