"""Ranges, boxes and geometry on real servers: what is found, proposed, tried, and comes true."""

from __future__ import annotations

import os
from collections.abc import Iterator

import psycopg
import pytest

from humble_ledger.engines.postgresql.launcher import Cluster
from tests.conftest import FOUND, Server
from tests.program import Program

SHAPES = """
DROP TABLE IF EXISTS berth_plan;
CREATE TABLE berth_plan (id integer, during int4range, place box);
INSERT INTO berth_plan SELECT n, int4range(n, n + n % 50 + 1),
    box(point(n % 300, n % 299), point(n % 300 + 1, n % 299 + 1)) FROM generate_series(1, 20000) n;
ANALYZE berth_plan;
"""


@pytest.fixture(scope="module")
def shapes(server: Server) -> Iterator[None]:
    server.do(SHAPES)
    yield
    server.do("DROP TABLE berth_plan")


@pytest.mark.parametrize(
    ("condition", "column"),
    [("during @> 700", "during"), ("during && '[5,9)'", "during"),
     ("place && '((5,5),(6,6))'", "place"), ("place <@ '((5,5),(9,9))'", "place")],
)  # fmt: skip
def test_an_index_of_what_encloses_ranges_and_boxes(
    begun: Program, shapes: None, condition: str, column: str
) -> None:
    text = f"SELECT id FROM berth_plan WHERE {condition}"
    found = begun.json("diagnose", text, "--measure")["symptoms"]
    assert found[0]["cause"]["name"] == "no-index"
    _is_true(begun, text, f"berth_plan USING gist ({column})")


def test_a_join_by_what_encloses_what(begun: Program, shapes: None) -> None:
    text = (
        "SELECT b.name, p.id FROM buoy b JOIN berth_plan p ON p.during @> b.buoy_id "
        "WHERE b.kind = 'harbour'"
    )
    found = begun.json("diagnose", text)["symptoms"]
    assert (found[0]["name"], found[0]["cause"]["name"]) == ("join-side-without-index", "no-index")
    remedy = begun.json("propose", text)["remedies"][0]
    assert "berth_plan USING gist (during)" in remedy["apply"][0]


def _is_true(humble: Program, text: str, index: str) -> None:
    """The index is proposed first, by the planner, and a trial finds its cost and its size."""
    remedy = humble.json("propose", text)["remedies"][0]
    assert index in remedy["apply"][0]
    predicted = remedy["queries"][0]
    assert predicted["way"] == "planner"
    said = humble.json("trial", text, "--remedy", remedy["id"], "--pairs", "2")
    (query,) = said["queries"]
    assert query["same_result"] is True and query["before"]["rows"] > 0
    assert query["after"]["cost"] == pytest.approx(predicted["cost_predicted"], rel=0.05)
    assert remedy["size_bytes_predicted"] == pytest.approx(said["size_bytes"], rel=0.25)


GEOMETRY = """
CREATE EXTENSION postgis;
CREATE TABLE buoy (buoy_id integer PRIMARY KEY, name text, place geometry(Point, 4326) NOT NULL);
INSERT INTO buoy SELECT n, 'buoy ' || n, ST_SetSRID(ST_MakePoint(-10 + (n * 37 % 20000) / 1000.0,
    45 + (n * 91 % 15000) / 1000.0), 4326) FROM generate_series(1, 30000) n;
CREATE INDEX buoy_place ON buoy USING gist (place);
CREATE TABLE track AS SELECT buoy_id AS track_id, place AS spot FROM buoy;
ANALYZE;
"""
HERE = "ST_SetSRID(ST_MakePoint(-3, 50), 4326)"


@pytest.fixture(scope="module")
def geometry() -> Iterator[str]:
    """A server with PostGIS; without it these tests fail in CI, as they would hide a gap."""
    for major in sorted(FOUND, reverse=True):
        with Cluster(FOUND[major]) as cluster:
            url = cluster.url("postgres")
            with psycopg.connect(url, autocommit=True) as connection:
                known = connection.execute(
                    "SELECT 1 FROM pg_available_extensions WHERE name = 'postgis'"
                ).fetchone()
                if known is not None:
                    connection.execute(GEOMETRY.encode())
                    yield url
                    return
    if os.environ.get("CI"):
        pytest.fail("PostGIS is not installed: see .ci/run")
    pytest.skip("PostGIS is not installed: apt-get install postgresql-15-postgis-3")


@pytest.fixture
def charted(humble: Program, geometry: str) -> Program:
    humble.ok("init", geometry, "--role", "scratch")
    return humble


@pytest.mark.server
@pytest.mark.xdist_group("geometry")
class TestGeometry:
    def test_an_index_that_a_function_can_use(self, charted: Program) -> None:
        text = f"SELECT track_id FROM track WHERE ST_DWithin(spot, {HERE}, 0.05)"
        found = charted.json("diagnose", text, "--measure")["symptoms"]
        assert found[0]["cause"]["name"] == "no-index"
        _is_true(charted, text, "track USING gist (spot)")

    def test_a_join_by_where_things_lie(self, charted: Program) -> None:
        text = (
            "SELECT count(*) FROM buoy b JOIN track t ON ST_DWithin(b.place, t.spot, 0.001) "
            "WHERE b.buoy_id < 20"
        )
        found = charted.json("propose", text)["remedies"]
        assert "track USING gist (spot)" in found[0]["apply"][0]

    @pytest.mark.parametrize(
        ("condition", "computed"),
        [
            ("ST_Intersects(ST_Transform(place, 3857), "
             "ST_Transform(ST_Expand(ST_SetSRID(ST_MakePoint(-3, 50), 4326), 0.05), 3857))",
             "st_transform"),
            ("ST_DWithin(place::geography, ST_SetSRID(ST_MakePoint(-3, 50), 4326)::geography, 5e3)",
             "geography"),
        ],
    )  # fmt: skip
    def test_what_is_computed_of_every_row(
        self, charted: Program, condition: str, computed: str
    ) -> None:
        text = f"SELECT name FROM buoy WHERE {condition}"
        cause = charted.json("diagnose", text, "--measure")["symptoms"][0]["cause"]
        assert cause["name"] == "function-on-column" and "buoy_place" in cause["detail"]
        found = charted.json("propose", text)
        every = [*found["remedies"], *found["left_out"]]
        index = next(r for r in every if "USING gist" in r["apply"][0])
        assert computed in index["apply"][0].lower()

    @pytest.mark.parametrize(
        "end",
        [
            f"WHERE ST_Distance(place, {HERE}) < 0.05",
            "WHERE ST_X(place) BETWEEN -3 AND -2.9 AND ST_Y(place) BETWEEN 50 AND 50.2",
            "WHERE ST_Intersects(ST_Transform(place, 3857), "
            f"ST_Transform(ST_Expand({HERE}, 0.05), 3857))",
            f"ORDER BY ST_Distance(place, {HERE}) LIMIT 7",
        ],
    )
    def test_what_is_written_past_the_index(self, charted: Program, end: str) -> None:
        text = f"SELECT buoy_id FROM buoy {end}"
        found = charted.json("diagnose", text)["symptoms"]
        assert "scan-is-right" not in [s["name"] for s in found]
        remedies = charted.json("propose", text)["remedies"]
        remedy = next(r for r in remedies if r["type"] == "rewrite")
        said = charted.json("trial", text, "--remedy", remedy["id"], "--pairs", "2")
        (query,) = said["queries"]
        assert query["same_result"] is True and query["before"]["rows"] > 0
        assert query["after"]["cost"] < 0.1 * query["before"]["cost"]
