"""The guarded servers, one of each version that is found."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterable, Iterator
from contextlib import ExitStack
from pathlib import Path

import pytest

from humble_ledger.engines.postgresql.launcher import Cluster
from tests.conftest import FOUND, MAJORS, NEEDED_MAJOR, clean_environment
from tests.program import Program
from tests.security.guarded import Guarded, guarded_server


def _servers(majors: tuple[int, ...]) -> list[object]:
    return [
        pytest.param(
            m, id=f"pg{m}", marks=[pytest.mark.server, pytest.mark.xdist_group(f"guarded{m}")]
        )
        for m in majors
        if m == NEEDED_MAJOR or m in FOUND
    ]


def shared_out(names: Iterable[str]) -> list[object]:
    """Cases for (guarded, name), each on one of the versions, in turn."""
    majors = [m for m in MAJORS if m == NEEDED_MAJOR or m in FOUND]
    found = []
    for number, name in enumerate(names):
        major = majors[number % len(majors)]
        group = [pytest.mark.server, pytest.mark.xdist_group(f"guarded{major}")]
        found.append(pytest.param(major, name, id=f"pg{major}-{name}", marks=group))
    return found


only_newest = pytest.mark.parametrize("guarded", _servers((NEEDED_MAJOR,)), indirect=True)


class _Pool:
    """The guarded servers of a module, each started when it is first asked for.

    A fixture with parameters would be made anew whenever the next test names another version.
    """

    def __init__(self, stack: ExitStack, folder: Path) -> None:
        self._stack = stack
        self._folder = folder
        self._servers: dict[int, Guarded] = {}
        self._aimed: dict[int, Path] = {}

    def server(self, major: int) -> Guarded:
        """The server of this version, with everything in it that acts."""
        if major not in self._servers:
            # Its own user must be able to write there, or no file could ever betray an attack.
            folder = Path(self._stack.enter_context(tempfile.TemporaryDirectory(dir="/var/tmp")))
            folder.chmod(0o755)
            cluster = self._stack.enter_context(
                Cluster(FOUND[major], {"max_prepared_transactions": "5", "autovacuum": "off"})
            )
            self._servers[major] = self._stack.enter_context(
                guarded_server(cluster, folder / "marks")
            )
        return self._servers[major]

    def aimed(self, major: int) -> Path:
        """A folder whose target is that server; to be copied."""
        if major not in self._aimed:
            folder = self._folder / f"aimed{major}"
            folder.mkdir()
            Program(folder, clean_environment()).ok(
                "init", self.server(major).url, "--role", "scratch"
            )
            self._aimed[major] = folder
        return self._aimed[major]


@pytest.fixture(scope="session")
def guarded_pool(tmp_path_factory: pytest.TempPathFactory) -> Iterator[_Pool]:
    with ExitStack() as stack:
        yield _Pool(stack, tmp_path_factory.mktemp("pool"))


@pytest.fixture(params=_servers(MAJORS))
def guarded(request: pytest.FixtureRequest, guarded_pool: _Pool) -> Guarded:
    """Each server version in turn, with everything in it that acts."""
    return guarded_pool.server(request.param)


@pytest.fixture
def aimed_folder(guarded: Guarded, guarded_pool: _Pool) -> Path:
    """A folder whose target is the guarded server; to be copied."""
    return guarded_pool.aimed(guarded.major)


@pytest.fixture
def aimed(humble: Program, aimed_folder: Path) -> Program:
    """The program in a folder whose target is the guarded server."""
    shutil.copytree(aimed_folder, humble.folder, dirs_exist_ok=True)
    return humble
