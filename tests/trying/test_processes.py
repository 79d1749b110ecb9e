"""Whose process a trial is, and whether it still runs."""

from __future__ import annotations

import subprocess
import sys

from humble_ledger.workflow.processes import still_runs, this_process

TELL = "from humble_ledger.workflow.processes import this_process; print(this_process())"


def test_a_process_runs_until_it_has_ended() -> None:
    assert still_runs(this_process()) is True
    ended = subprocess.check_output([sys.executable, "-c", TELL], text=True).strip()
    assert still_runs(ended) is False


def test_a_number_that_another_process_has_now_is_not_taken_for_it() -> None:
    machine, pid, start = this_process().rsplit(":", 2)
    assert still_runs(f"{machine}:{pid}:{int(start or 0) + 1}") is False


def test_of_another_machine_of_the_same_name_nothing_is_known() -> None:
    machine, pid, start = this_process().rsplit(":", 2)
    name, *rest = machine.split("/")
    assert rest, "Linux tells more than the name"
    for other in (name, "/".join([name, *rest[:-1], "1"]), f"{name}/00000000/{rest[-1]}"):
        assert still_runs(f"{other}:{pid}:{start}") is None
    assert still_runs("") is None
