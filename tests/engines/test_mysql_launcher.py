"""A MariaDB or MySQL server of our own goes with us, however we go."""

from __future__ import annotations

import signal
import subprocess
import sys
from pathlib import Path

import pytest

from humble_ledger.engines.mysql.launcher import (
    MariaCluster,
    MysqlCluster,
    Programs,
    find_mysql_programs,
    find_programs,
)
from humble_ledger.errors import TargetUnreachable, WrongUsage
from tests.engines.test_launcher import gone, servers_of

HOLD = """
import signal, time
# Tests that were started in the background hand an ignored Ctrl-C down.
signal.signal(signal.SIGINT, signal.default_int_handler)
from humble_ledger.engines.mysql.launcher import MariaCluster, find_programs
with MariaCluster(find_programs()) as cluster:
    print(cluster.folder, flush=True)
    time.sleep(60)
"""


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGINT])
def test_the_server_goes_with_us(number: int) -> None:
    ours = subprocess.Popen([sys.executable, "-c", HOLD], stdout=subprocess.PIPE, text=True)
    assert ours.stdout is not None
    folder = ours.stdout.readline().strip()
    assert servers_of(folder)
    ours.send_signal(number)
    ours.wait()
    assert gone(folder)


def test_a_server_that_does_not_start_tells_why_and_leaves_nothing() -> None:
    cluster = MariaCluster(find_programs(), {"no_such_setting": "1"})
    with pytest.raises(TargetUnreachable, match="no_such_setting"), cluster:
        pass
    assert not cluster.folder.exists()


def test_programs_that_are_not_there_are_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("HUMBLE_MARIADB_BIN", "/nowhere")
    with pytest.raises(WrongUsage) as caught:
        find_programs()
    assert "apt install" in caught.value.hint


@pytest.mark.parametrize("says", ["", "mysqld  Ver 10.11.6-MariaDB for debian-linux-gnu"])
def test_a_copy_of_mysql_takes_mysqls_own_programs(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path, says: str
) -> None:
    if says:  # what is called so is often MariaDB's
        (tmp_path / "mysqld").write_text(f"#!/bin/sh\necho '{says}'\n")
        (tmp_path / "mysqld").chmod(0o755)
    monkeypatch.setenv("HUMBLE_MYSQL_BIN", str(tmp_path))
    with pytest.raises(WrongUsage) as caught:
        find_mysql_programs()
    assert "HUMBLE_MYSQL_BIN" in caught.value.hint


def test_a_mysql_server_that_does_not_start_tells_why(tmp_path: Path) -> None:
    program = tmp_path / "mysqld"
    program.write_text("#!/bin/sh\necho '[ERROR] unknown variable' >&2; exit 1\n")
    program.chmod(0o755)
    tmp_path.chmod(0o755)
    cluster = MysqlCluster(Programs(program, program, "9.7.4"))
    with pytest.raises(TargetUnreachable, match="did not start"), cluster:
        pass
    assert not cluster.folder.exists()
