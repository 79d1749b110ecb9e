"""Statistics of columns on trial: for everybody, where there are none, and none are left."""

from __future__ import annotations

import signal
import time

import pytest

from tests.conftest import Maria
from tests.program import PATIENCE_S, Program

pytestmark = pytest.mark.xdist_group("mariadb")
MISLED = (
    "SELECT b.name FROM alert a JOIN sensor s ON s.sensor_id = a.sensor_id JOIN buoy b ON "
    "b.buoy_id = a.buoy_id JOIN visit v ON v.buoy_id = b.buoy_id "
    "WHERE v.remark = 'none' AND a.status = 'open' AND b.depth_m > 100"
)


def test_statistics_are_tried_for_everybody_and_none_are_left(aimed: Program, maria: Maria) -> None:
    remedies = aimed.json("propose", MISLED, "--type", "statistics")["remedies"]
    wanted = [r["id"] for r in remedies if "buoy" in r["summary"] or "visit" in r["summary"]]
    asked = [word for each in wanted for word in ("--remedy", each)]
    tried = aimed.json("trial", MISLED, *asked, "--pairs", "6")
    assert tried["way"] == "gathered-for-all" and tried["left_behind"] == []
    (mine,) = tried["queries"]
    assert tried["verdict"] == "faster" and mine["uses_change"] and mine["same_result"]
    gathered = "SELECT table_name, column_name FROM mysql.column_stats"
    assert not maria.fetch(gathered) and not maria.fetch("SELECT * FROM mysql.table_stats")

    settings = aimed.folder / "humble.toml"
    settings.write_text(settings.read_text().replace('"scratch"', '"production"'))
    assert "production server" in aimed.fails(5, "trial", MISLED, *asked, "--on-production")
    settings.write_text(settings.read_text().replace('"production"', '"scratch"'))
    # What somebody else has gathered could not be brought back, and so stays.
    maria.do("ANALYZE TABLE visit PERSISTENT FOR COLUMNS (remark) INDEXES ()")
    try:
        assert "already" in aimed.fails(5, "trial", MISLED, *asked)
        aimed.ok("tidy")
        assert maria.fetch(gathered) == [("visit", "remark")]
    finally:
        maria.do("DELETE FROM mysql.column_stats")
        maria.do("DELETE FROM mysql.table_stats")
        maria.do("FLUSH TABLES visit")


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGKILL])
def test_statistics_of_a_trial_that_is_ended_are_let_go(
    aimed: Program, maria: Maria, how: signal.Signals
) -> None:
    there = "SELECT column_name FROM mysql.column_stats"
    remedies = aimed.json("propose", MISLED, "--type", "statistics")["remedies"]
    remedy = next(r["id"] for r in remedies if "alert" in r["summary"])
    begun = aimed.start("trial", MISLED, "--remedy", remedy, "--pairs", "40")
    while begun.poll() is None and not maria.fetch(there):
        time.sleep(0.05)
    begun.send_signal(how)
    begun.communicate(timeout=PATIENCE_S)
    if how is signal.SIGKILL:
        assert maria.fetch(there) == [("status",)]
        assert "statistics of `alert`.`status`" in aimed.ok("tidy").out
    assert not maria.fetch(there) and not maria.fetch("SELECT * FROM mysql.table_stats")
