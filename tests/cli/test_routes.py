"""Other routes through the program, on real servers."""

from __future__ import annotations

import pytest

from tests.conftest import Server, only_newest
from tests.program import Program


def test_the_break_even_of_a_scan_is_where_the_planner_changes_its_mind(
    begun: Program, server: Server
) -> None:
    server.do("SET client_min_messages = error; DROP TABLE IF EXISTS evenly")
    server.do(
        "CREATE TABLE evenly AS SELECT n, (n * 7919) % 100000 AS spot, repeat('x', 60) AS pad "
        "FROM generate_series(1, 100000) AS n"
    )
    server.do("CREATE INDEX evenly_spot ON evenly (spot)")
    server.do("VACUUM ANALYZE evenly")
    try:
        query = "SELECT count(pad) FROM evenly WHERE spot < {}"
        for spots, other_wins_below in ((2_000, False), (90_000, True)):
            found = begun.json("routes", query.format(spots))
            decision = found["decision"]
            assert decision["by"] == "share of the rows that match", found
            assert decision["expected"] == pytest.approx(spots / 100_000, abs=0.01)
            assert decision["other_wins_below"] is other_wins_below
            for factor, way in ((0.85, "evenly_spot"), (1.15, "full scan of evenly")):
                limit = int(100_000 * decision["break_even_computed"] * factor)
                (first, *_) = begun.json("routes", query.format(limit))["routes"]
                assert way in first["how"], (factor, first, decision)
    finally:
        server.do("DROP TABLE evenly")


def test_the_break_even_of_lookups_is_where_the_join_changes(
    begun: Program, server: Server
) -> None:
    query = "SELECT sum(r.value) FROM buoy b JOIN reading r ON r.reading_id = b.buoy_id * 25"
    decision = begun.json("routes", query)["decision"]
    assert decision["by"] == "number of lookups", decision
    assert decision["expected"] == 400
    assert decision["break_even_computed"] > decision["expected"]
    assert not decision["other_wins_below"]


@only_newest
def test_ways_are_measured_kept_and_compared(begun: Program, server: Server) -> None:
    query = begun.query_with("WHERE quality = $1")
    shown = " ".join(begun.ok("routes", query, "--measure").out.split())
    assert "the server's choice" in shown and "of reading_quality" in shown
    assert "it would win below about" in shown and "Measured once each, warm" in shown
    found = begun.json("routes", query, "--measure")
    assert len(found["routes"]) >= 3
    assert found["routes"] and all(
        each["execution_ms"] or each["stopped_after_ms"] for each in found["routes"]
    )
    assert all(each["pages"] > 1000 for each in found["routes"] if each["execution_ms"])
    first, second = (each["plan"] for each in found["routes"][:2])
    assert "Index Scan" in begun.ok("compare", first, second).out
    settings = begun.json("plan", second)["settings"]
    assert "enable_seqscan" in settings
    # The plans of other routes are not taken for the query's own.
    assert "scan-is-right" in begun.ok("diagnose", query).out


@only_newest
def test_a_way_that_takes_for_ever_is_stopped(begun: Program, server: Server) -> None:
    slow = "SELECT count(*) FROM reading r JOIN sensor s ON s.sensor_id = r.sensor_id"
    found = begun.json("routes", slow, "--measure")
    assert found["routes"][0]["execution_ms"]
    stopped = [each for each in found["routes"] if each["stopped_after_ms"]]
    for each in stopped:
        assert each["execution_ms"] is None
    assert server.fetch("SELECT count(*) FROM pg_stat_activity WHERE state = 'active'") == [(1,)]


@only_newest
def test_what_has_no_other_way(begun: Program, server: Server) -> None:
    assert "knows no other way" in begun.ok("routes", "SELECT 1").out
    changing = "UPDATE alert SET status = 'open' WHERE alert_id = 3"
    assert "alert by alert_pkey" in begun.ok("routes", changing).out
    assert "change" in begun.fails(5, "routes", changing, "--measure")
    assert "q999" in begun.fails(2, "routes", "q999")
