"""Conditions on where things lie: what is turned, and what is left alone."""

from __future__ import annotations

import pytest

from humble_ledger.core.remedies.rewrites.registry import rewritings
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts, TableName


def _column(name: str, type_: str) -> ColumnFacts:
    return ColumnFacts(name, type_, 1, False, -1, 8)


BUOY = TableFacts(
    TableName("public", "buoy"), "table", 60_000.0, 500, 0,
    columns={
        "name": _column("name", "text"),
        "place": _column("place", "geometry(Point,4326)"),
        "loose": _column("loose", "geometry"),
        "globe": _column("globe", "geography(Point,4326)"),
    },
)  # fmt: skip


def turned(sql: str) -> tuple[str, str]:
    """The only rewriting on one line, and when it means the same; "" when there is none."""
    found = list(rewritings(f"SELECT name FROM buoy {sql}", {BUOY.name: BUOY}))
    assert len(found) <= 1
    text = " ".join(found[0].sql.split()) if found else ""
    return text.removeprefix("SELECT name FROM buoy "), found[0].same_when if found else ""


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ("WHERE ST_Distance(place, $1) <= 5", "WHERE ST_DWITHIN(place, $1, 5)"),
        ("WHERE st_distance(globe, $1) < 5 AND name = 'x'",
         "WHERE ( ST_DWITHIN(globe, $1, 5) AND ST_DISTANCE(globe, $1) < 5 ) AND name = 'x'"),
        ("WHERE ST_Intersects(ST_Transform(place, 3857), $1)",
         "WHERE ST_INTERSECTS(place, ST_TRANSFORM($1, 4326))"),
        ("WHERE ST_Contains($1, ST_Transform(place, 3857))",
         "WHERE ST_CONTAINS(ST_TRANSFORM($1, 4326), place)"),
        ("WHERE ST_X(place) BETWEEN 1 AND 2 AND ST_Y(place) > -4 AND ST_Y(place) <= 4",
         "WHERE place && ST_MAKEENVELOPE(1, -4, 2, 4, 4326) AND ST_X(place) BETWEEN 1 AND 2 "
         "AND ST_Y(place) > -4 AND ST_Y(place) <= 4"),
        ("ORDER BY ST_Distance(place, ST_MakePoint(1, 2, 3)) LIMIT 5",
         "ORDER BY place <-> ST_MAKEPOINT(1, 2, 3) LIMIT 5"),
    ],
)  # fmt: skip
def test_what_is_turned(before: str, after: str) -> None:
    assert turned(before)[0] == after


@pytest.mark.parametrize(
    "text",
    [
        "WHERE ST_Distance(place, $1) > 5",
        "WHERE ST_Distance(place, $1) < name::float",
        "WHERE ST_Distance(name, $1) < 5",
        "WHERE ST_Distance(place, $1, true) < 5",
        "WHERE ST_DWithin(ST_Transform(place, 3857), $1, 5)",  # measured in another unit
        "WHERE ST_Intersects(ST_Transform(loose, 3857), $1)",  # of an unknown projection
        "WHERE ST_Intersects(ST_Transform(place, 3857), globe::geometry)",
        "WHERE NOT ST_Intersects(ST_Transform(place, 3857), $1)",
        "WHERE ST_X(place) BETWEEN 1 AND 2 AND ST_Y(place) > 4",
        "WHERE ST_X(loose) BETWEEN 1 AND 2 AND ST_Y(loose) BETWEEN 1 AND 2",
        "ORDER BY ST_Distance(place, $1)",
        "ORDER BY ST_Distance(place, $1) DESC LIMIT 5",
        "ORDER BY ST_Distance(globe, $1) LIMIT 5",
    ],
)
def test_what_is_left_alone(text: str) -> None:
    assert turned(text) == ("", "")


def test_it_tells_when_the_result_is_the_same() -> None:
    assert turned("WHERE ST_Distance(place, $1) <= 5")[1] == ""
    assert "not negative" in turned("WHERE ST_Distance(place, $1) <= $2")[1]
    assert "projection" in turned("WHERE ST_Within(ST_Transform(place, 3857), $1)")[1]
