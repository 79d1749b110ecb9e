"""A MariaDB server of our own goes with us, however we go."""

from __future__ import annotations

import signal
import subprocess
import sys

import pytest

from humble_ledger.engines.mysql.launcher import MariaCluster, find_programs
from humble_ledger.errors import TargetUnreachable, WrongUsage
from tests.engines.test_launcher import gone, servers_of

HOLD = """
import time
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
