from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import psycopg
import pytest

from humble_ledger.engines.postgresql.launcher import Cluster, find_binaries
from humble_ledger.engines.postgresql.launcher.reachable import wheel_libraries
from humble_ledger.errors import TargetUnreachable, WrongUsage
from tests.conftest import FOUND

HOLD = """
import signal, sys, time
# Tests that were started in the background hand an ignored Ctrl-C down.
signal.signal(signal.SIGINT, signal.default_int_handler)
from humble_ledger.engines.postgresql.launcher import Cluster, find_binaries
with Cluster(find_binaries()) as cluster:
    print(cluster.folder, flush=True)
    time.sleep(60)
"""


def servers_of(folder: str) -> list[str]:
    """Processes that name this folder in their arguments."""
    found = []
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                words = (entry / "cmdline").read_bytes().decode(errors="replace")
            except OSError:
                continue
            if folder in words and "sleep(60)" not in words:
                found.append(words)
    return found


def gone(folder: str) -> bool:
    for _ in range(1200):
        if not servers_of(folder) and not Path(folder).exists():
            return True
        time.sleep(0.05)
    return False


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGINT, signal.SIGTERM])
def test_the_server_goes_with_us_however_we_go(number: int) -> None:
    ours = subprocess.Popen([sys.executable, "-c", HOLD], stdout=subprocess.PIPE, text=True)
    assert ours.stdout is not None
    folder = ours.stdout.readline().strip()
    assert servers_of(folder)
    ours.send_signal(number)
    ours.wait()
    assert gone(folder)


@pytest.mark.parametrize("major", sorted(FOUND))
def test_a_server_listens_on_its_socket_only_and_leaves_nothing(major: int) -> None:
    with Cluster(FOUND[major]) as cluster:
        folder = str(cluster.folder)
        with psycopg.connect(cluster.url("postgres")) as connection:
            assert connection.info.server_version // 10000 == major
            row = connection.execute("SHOW listen_addresses").fetchone()
            assert row == ("",)
        owner = os.stat(cluster.data)
        assert owner.st_uid != 0
        assert oct(owner.st_mode)[-3:] == "700"
    assert gone(folder)


def test_programs_in_a_closed_folder_are_copied_where_the_server_can_run_them(
    tmp_path: Path,
) -> None:
    source = find_binaries(major=18)
    closed = tmp_path / "closed"
    package = source.prefix.parent
    for folder_of in (package, wheel_libraries(source)):
        assert folder_of is not None
        shutil.copytree(folder_of, closed / folder_of.name, symlinks=True)
    closed.chmod(0o700)
    inside = closed / package.name / source.prefix.name / source.folder.name
    with Cluster(find_binaries(inside)) as cluster:
        folder = str(cluster.folder)
        psycopg.connect(cluster.url("postgres")).close()
    assert gone(folder)


def test_a_server_that_cannot_start_says_why_and_leaves_nothing() -> None:
    cluster = Cluster(find_binaries(), {"no_such_setting": "1"})
    with pytest.raises(TargetUnreachable, match=r"did not start.*no_such_setting"):
        cluster.__enter__()
    assert gone(str(cluster.folder))


def test_what_is_no_folder_of_programs_is_refused(tmp_path: Path) -> None:
    with pytest.raises(WrongUsage, match="No PostgreSQL server programs in"):
        find_binaries(tmp_path)
    with pytest.raises(WrongUsage, match="No PostgreSQL 9 programs"):
        find_binaries(major=9)
