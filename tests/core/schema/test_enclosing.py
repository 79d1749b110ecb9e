"""What a condition, as a server prints it, lets a tree of enclosing shapes find."""

from __future__ import annotations

import pytest

from humble_ledger.core.schema.enclosing import Sought, holding, nearest, sought
from humble_ledger.core.schema.facts import (
    ColumnFacts,
    IndexFacts,
    IndexKey,
    TableFacts,
    TableName,
)
from humble_ledger.core.schema.index_methods import IndexMethod

FUNCTIONS = frozenset(("st_intersects", "st_dwithin", "st_contains"))
COLUMNS = {
    "place": ColumnFacts(
        "place", "geometry(Point,4326)", 1, False, -1, 8,
        enclosing_operators=frozenset(("&&", "~")), enclosing_functions=FUNCTIONS,
        nearness_operators=frozenset(("<->",)),
    ),
    "during": ColumnFacts(
        "during", "int4range", 2, False, -1, 4, enclosing_operators=frozenset(("&&", "@>", "<@"))
    ),
    "id": ColumnFacts("id", "integer", 3, False, 4, 4),
}  # fmt: skip
TRACK = TableFacts(TableName("public", "track"), "table", 1000.0, 90, 0, columns=COLUMNS)


@pytest.mark.parametrize(
    ("condition", "found"),
    [
        ("(st_dwithin(place, '01'::geometry, '0.01'::double precision))", ["place"]),
        ("public.st_dwithin(t.place, '01'::public.geometry, 3)", ["place"]),
        ("st_contains(z.area, t.place)", ["place"]),
        ("st_contains(z.area, z.place)", []),
        ("st_intersects(st_transform(place, 7), '01'::geometry)", ["(st_transform(place, 7))"]),
        ("st_intersects(t.place::geography, '01'::geography)", ["(place::geography)"]),
        ("(during && '[5,9)'::int4range)", ["during"]),
        ("('[5,9)'::int4range @> during)", ["during"]),
        ("(during @> id)", ["during"]),
        ("(during = '[5,9)'::int4range)", []),
        ("(id = 5)", []),
        ("(NOT st_intersects(place, '01'::geometry))", []),
        ("st_distance(place, '01'::geometry) < '3'::double precision", []),
        ("st_intersects(place, '01'::geometry) IS TRUE", []),
        ("st_intersects(place, 'a, (b'::geometry)", ["place"]),
        ("nothing", []),
        ("", []),
    ],
)  # fmt: skip
def test_what_is_sought(condition: str, found: list[str]) -> None:
    keys = [each.key for each in sought(condition, TRACK, "t")]
    assert [key.column or key.expression for key in keys] == found


def test_the_nearest_first() -> None:
    by = nearest("(t.place <-> '01'::geometry)", TRACK, "t")
    assert by is not None and by.column == "place"
    assert nearest("t.id", TRACK, "t") is None
    assert nearest("(t.during && '[1,2)'::int4range)", TRACK, "t") is None


def test_an_index_that_holds_it_is_found_and_no_other() -> None:
    wanted = Sought("place", "place", "")
    computed = Sought("place", "", "st_transform(place, 3857)")
    keys = {
        "sorted": (IndexKey("place"), IndexMethod.SORTED, ""),
        "part": (IndexKey("place"), IndexMethod.ENCLOSING, "id > 5"),
        "other": (IndexKey("", "st_transform(place, 25832)"), IndexMethod.ENCLOSING, ""),
    }
    some = tuple(
        IndexFacts(name, method, (key,), predicate=predicate)
        for name, (key, method, predicate) in keys.items()
    )
    table = TableFacts(TRACK.name, "table", 1000.0, 90, 0, columns=COLUMNS, indexes=some)
    assert holding(table, wanted) is None and holding(table, computed) is None
    key = IndexKey("", "(st_transform(place, 3857))")
    more = IndexFacts("m", IndexMethod.ENCLOSING, (key,))
    table = TableFacts(TRACK.name, "table", 1000.0, 90, 0, columns=COLUMNS, indexes=(*some, more))
    assert holding(table, computed) is more and holding(table, wanted) is None
