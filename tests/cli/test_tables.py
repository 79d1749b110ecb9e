"""`humble table`: what the server knows of tables and columns, held against the truth."""

from __future__ import annotations

import pytest

from tests.conftest import READINGS, Server, only_newest, only_oldest
from tests.program import Program


def test_a_table_is_told_as_the_server_counts_it(begun: Program, server: Server) -> None:
    found = begun.json("table", "reading")
    size, index_size, pages = server.fetch(
        "SELECT pg_relation_size('reading'), pg_indexes_size('reading'), "
        "pg_relation_size('reading') / 8192"
    )[0]
    assert (found["size_bytes"], found["index_bytes"], found["pages"]) == (size, index_size, pages)
    assert found["rows_estimated"] == pytest.approx(READINGS, rel=0.01)
    assert found["pages_needed_computed"] == pytest.approx(pages, rel=0.1)
    assert found["inserted_rows"] == READINGS
    assert found["changes_since_analyze"] == READINGS // 50
    merged = {each["name"]: each["merged_into"] for each in found["indexes"]}
    assert merged["reading_buoy"] == "reading_buoy_taken"
    assert merged["reading_pkey"] is None
    told = begun.ok("table", "reading").out
    assert "last used" in told or server.major < 16
    assert f"{READINGS // 50:,} rows changed since, 2 %" in told
    assert "redundant-index" in told


def test_foreign_keys_and_partitions_are_told(begun: Program, server: Server) -> None:
    (key,) = begun.json("table", "public.alert")["foreign_keys"]
    assert (key["columns"], key["refers_to"], key["on_delete"]) == (
        ["buoy_id"],
        "buoy",
        "no action",
    )
    assert "buoy (buoy_id)" in begun.ok("table", "alert").out


def test_a_column_is_counted_beside_its_estimates(begun: Program, server: Server) -> None:
    found = begun.json("table", "reading.buoy_id", "--value", "7", "--value", "> 390", "--count")
    for asked, condition in zip(found["asked"], ("buoy_id = 7", "buoy_id > 390"), strict=True):
        (counted,) = server.fetch(f"SELECT count(*) FROM reading WHERE {condition}")[0]
        assert asked["counted_rows"] == counted
        # A range is estimated from the bounds that a sample of the table gave.
        off = 0.1 if "=" in condition else 0.4
        assert asked["rows_estimated"] == pytest.approx(float(str(counted)), rel=off)
    assert [each["place"] for each in found["asked"]] == ["listed", "inside"]
    assert found["counted_rows"] == READINGS
    assert found["counted_distinct"] == 400
    top = found["common"][0]
    (rows,) = server.fetch(f"SELECT count(*) FROM reading WHERE buoy_id = {top['value']}")[0]
    assert top["counted_rows"] == rows
    assert sum(each["share_estimated"] for each in found["histogram"]) == pytest.approx(
        1 - found["column"]["common_share"], abs=0.01
    )


@only_oldest
def test_a_value_behind_the_last_bound_is_shown_with_the_estimate_that_follows(
    begun: Program, server: Server
) -> None:
    asked = ("table", "reading.taken_at", "--value", ">= 2026-06-29", "--count")
    (found,) = begun.json(*asked)["asked"]
    assert found["place"] == "above"
    assert found["counted_rows"] > 20 * found["rows_estimated"]
    told = begun.run(*asked, COLUMNS="120").out
    assert "behind the last known value" in told
    assert "× more" in told


def test_the_values_of_a_query_are_found_in_its_plan(begun: Program, server: Server) -> None:
    query = begun.query_with("FROM reading WHERE buoy_id = $1")
    (found,) = begun.json("table", "reading.buoy_id", "--of", query)["asked"]
    assert found["value"].isdigit()  # of the slowest run, whichever that was
    assert found["counted_rows"] is None
    message = begun.fails(2, "table", "reading.quality", "--of", query)
    assert "does not test reading.quality" in message


@only_newest
def test_values_without_an_order_that_can_be_drawn_come_in_tenths(
    begun: Program, server: Server
) -> None:
    found = begun.json("table", "alert.code")
    assert not found["even_width"]
    assert len(found["histogram"]) == 10
    assert "in tenths of these rows" in begun.ok("table", "alert.code").out


@only_newest
@pytest.mark.parametrize(("column", "ending"), [("buoy_id", "svg"), ("taken_at", "png")])
def test_a_column_is_drawn(begun: Program, server: Server, column: str, ending: str) -> None:
    value = "9" if column == "buoy_id" else ">= 2026-03-01"
    told = begun.ok("table", f"reading.{column}", "--value", value, "--to", f"x.{ending}")
    assert f"x.{ending}" in told.out
    drawn = (begun.folder / f"x.{ending}").read_bytes()
    if ending == "svg":
        assert b"common values" in drawn
        assert b"buoy_id = " in drawn
    else:
        assert drawn.startswith(b"\x89PNG")
        assert len(drawn) > 10_000


@only_newest
def test_names_that_do_not_exist_are_told_with_those_that_do(
    begun: Program, server: Server
) -> None:
    assert "There is: reading." in begun.fails(2, "table", "readings")
    assert "It has: reading_id, sensor_id" in begun.fails(2, "table", "reading.bouy")
    assert "for a column" in begun.fails(2, "table", "reading", "--count")
    assert "invalid input syntax" in begun.fails(4, "table", "reading.buoy_id", "--value", "seven")
    message = begun.fails(2, "table", "reading.buoy_id", "--to", "x.doc")
    assert ".svg, .png or .pdf" in message


@only_newest
def test_odd_names_and_schemas_are_found(begun: Program, server: Server) -> None:
    server.do('CREATE SCHEMA odd; CREATE TABLE odd."Mixed Case" (id int, "a b" text)')
    try:
        server.do("""INSERT INTO odd."Mixed Case" SELECT n, 'it''s' FROM generate_series(1, 9) n""")
        server.do('ANALYZE odd."Mixed Case"')
        assert begun.json("table", 'odd."Mixed Case"')["rows_estimated"] == 9
        found = begun.json("table", 'odd."Mixed Case"."a b"', "--value", "it's", "--count")
        assert found["asked"][0]["counted_rows"] == 9
        assert "odd.Mixed Case" in begun.ok("table", 'odd."Mixed Case"').out
    finally:
        server.do("DROP SCHEMA odd CASCADE")
