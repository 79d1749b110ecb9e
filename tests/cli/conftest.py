"""What several files of these tests share."""

from __future__ import annotations

import pytest

from tests.conftest import Maria, clean_environment
from tests.program import Program
from tests.told import tell


@pytest.fixture(scope="session")
def told(tmp_path_factory: pytest.TempPathFactory) -> Program:
    """A ledger over a file with a whole chain; to be read, or copied."""
    program = Program(tmp_path_factory.mktemp("told"), clean_environment())
    tell(program)
    return program


@pytest.fixture
def aimed(humble: Program, maria: Maria) -> Program:
    """A ledger whose target is the server, with the slow log captured."""
    humble.ok("init", maria.url, "--role", "scratch")
    humble.ok("capture", "log", str(maria.log))
    return humble
