"""Every kind of index, on tables of every kind: proposed, built as printed, used, removed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import psycopg
import pytest

from humble_ledger.core.remedies.model import RemedyType
from humble_ledger.workflow.proposing.everything import propose
from humble_ledger.workflow.workspace import Workspace
from tests.conftest import Server, only_oldest
from tests.odd_tables import odd_database
from tests.program import Program

INDEXES = "SELECT count(*) FROM pg_class WHERE relkind IN ('i', 'I')"
# A statement, the index that must be proposed first, and how far its predicted cost may be off.
KINDS = [
    ("SELECT paper_id FROM paper WHERE done = false AND opened > '2026-02-10'",
     "paper (opened) WHERE NOT done", 1.25),
    ("SELECT paper_id FROM paper WHERE sent_at IS NULL ORDER BY opened DESC LIMIT 20",
     "paper (opened DESC) WHERE sent_at IS NULL", 1.25),
    ("SELECT words FROM paper WHERE state = 'waiting' ORDER BY opened LIMIT 5",
     "paper (opened) WHERE state = 'waiting'", 2.0),
    ("SELECT paper_id FROM paper WHERE lower(code) = 'c-4711'", "paper (lower(code))", 1.25),
    ("SELECT paper_id FROM paper WHERE (facts ->> 'kind') = '77'",
     "paper ((facts ->> 'kind'::text))", 1.5),
    ("SELECT paper_id FROM paper WHERE code LIKE 'C-471%'", "paper (code text_pattern_ops)", 1.25),
    ("SELECT paper_id FROM paper WHERE title = 'Title 512'", "paper (title)", 1.25),
    ("SELECT paper_id FROM paper WHERE title LIKE 'Title 51%'",
     "paper (title varchar_pattern_ops)", 1.25),
    ("SELECT paper_id FROM paper WHERE facts @> '{\"kind\": 77}'",
     "paper USING gin (facts jsonb_path_ops)", 3.0),
    ("SELECT paper_id FROM paper WHERE facts -> 'tags' ? 't77'",
     "paper USING gin ((facts -> 'tags'::text))", 2.0),
    ("SELECT paper_id FROM paper WHERE to_tsvector('simple', title) @@ to_tsquery('simple', '512')",
     "paper USING gin (to_tsvector('simple'::regconfig, (title)::text))", 3.0),
    ("SELECT paper_id FROM paper WHERE to_tsvector('simple', title) || to_tsvector('simple', code) "
     "@@ to_tsquery('simple', '512')",
     "paper USING gin ((to_tsvector('simple'::regconfig, (title)::text) || "
     "to_tsvector('simple'::regconfig, code)))", 3.0),
    ("SELECT paper_id FROM paper WHERE marks @> ARRAY[77]", "paper USING gin (marks)", 3.0),
    ("SELECT max(opened) FROM paper", "paper (opened)", 1.25),
    ("SELECT line FROM log ORDER BY depth - source DESC LIMIT 5",
     "log ((depth - source) DESC)", 1.5),
    ("SELECT min(depth) FROM log WHERE source = 7", "log (source, depth)", 1.25),
    ("SELECT count(*) FROM log WHERE at BETWEEN '2026-01-03' AND '2026-01-03 02:00' AND depth > 5",
     "log (at)", 1.25),
    ("SELECT id FROM guest WHERE host <<= inet '10.7.7.0/24'", "guest (host)", 2.0),
    ("SELECT id FROM guest WHERE lower(sign) = 's-4711'", "guest ((lower((sign)::text)))", 1.25),
    ("SELECT id FROM guest WHERE flags = B'00000111' AND last = 'L7'", "guest (last, flags)", 1.25),
    ("SELECT id FROM guest WHERE wish -> 'room' = 'R77'", "guest ((wish -> 'room'::text))", 1.5),
    ("SELECT id FROM guest WHERE wish @> 'room=>R77'", "guest USING gin (wish)", 3.0),
    ("SELECT id FROM guest WHERE first || ' ' || last = 'F7 L7'",
     "guest (((first || ' '::text) || last))", 1.25),
    ("SELECT id FROM guest WHERE went - came > interval '16 hours 39 minutes'",
     "guest ((went - came))", 2.0),
    ("SELECT id FROM guest WHERE (note ->> 'late')::boolean",
     "guest ((((note ->> 'late'::text))::boolean))", 1.5),
    ("SELECT * FROM busy WHERE depth = 77", "busy (depth)", 1.25),
    ('SELECT "x y" FROM "Über Wache"."Boje" WHERE "select" = 7',
     '"Über Wache"."Boje" ("select")', 1.25),
]  # fmt: skip
DECLINED = [
    "SELECT * FROM tiny WHERE kind = 'k3'",
    "SELECT * FROM nothing WHERE kind = 'k3'",
    "SELECT * FROM paper WHERE lower(words) > ''",
    "SELECT * FROM paper WHERE opened::text = 'x'",  # rests on the session's time zone
    "SELECT * FROM paper WHERE date_trunc('day', opened) = '2026-01-07' AND random() < 2",
    "SELECT * FROM far WHERE kind = 7",
    "SELECT * FROM pg_catalog.pg_depend WHERE refobjsubid = 77",  # nobody's to change
    "SELECT id FROM guest WHERE position('7' in first) > 5",  # an index for this question alone
    "SELECT id FROM guest WHERE mood::text > 'rough'",  # its labels could be renamed
    "SELECT 1",
    "VALUES (1), (2)",
]


@pytest.fixture(scope="module")
def odd(server: Server) -> Iterator[str]:
    """The database of odd tables."""
    with odd_database(server) as url:
        yield url


@pytest.fixture
def there(humble: Program, odd: str) -> Program:
    """The program in a folder of its own with that target."""
    humble.ok("init", odd, "--role", "scratch")
    return humble


def as_on(server: Server, wanted: str) -> str:
    """The index that is wanted there: without a language's order, texts are sorted by bytes."""
    by_bytes = server.major >= 18
    for class_ in (" text_pattern_ops", " varchar_pattern_ops"):
        wanted = wanted.replace(class_, "") if by_bytes else wanted
    return wanted


def test_each_kind_is_proposed_first_predicted_built_used_and_removed(
    there: Program, odd: str, server: Server
) -> None:
    wrong: list[object] = []
    with Workspace.find(there.folder) as workspace:
        for sql, on_any, off in KINDS:
            wanted = as_on(server, on_any)
            found = propose(workspace, [sql], types=[RemedyType.INDEX]).remedies
            named = [entry.remedy.summary.removeprefix("index on ") for entry in found]
            if named[:1] != [wanted]:
                wrong.append((sql, wanted, named))
                continue
            remedy = found[0].remedy
            # The newest; another query may know the index, too.
            predicted = remedy.predictions[0].cost_predicted
            both = {"apply": list(remedy.apply), "revert": list(remedy.revert)}
            real, used, removed = _really(odd, sql, both)
            workspace.reconnect()  # statistics may have been gathered anew
            if not used or not removed or not 1 / off <= predicted / real <= off:
                wrong.append((sql, wanted, (predicted, real, used, removed)))
    assert not wrong, "\n".join(map(str, wrong))


@pytest.mark.parametrize(
    ("sql", "wanted"),
    [
        ("SELECT * FROM guest WHERE last = 'L7' OR first = 'F7' AND flags = B'00000111'",
         ["guest (flags, first)", "guest (last)"]),
        ("SELECT * FROM measure WHERE buoy = 77 OR depth = 4711",
         ["measure (buoy)", "measure (depth)"]),
        ("SELECT * FROM guest WHERE id = 7 OR last = 'L7'", ["guest (last)"]),
        ("SELECT * FROM guest WHERE last = 'L7' OR length(first) > 2", []),
    ],
)  # fmt: skip
def test_each_side_of_or_gets_its_index_and_none_is_promised_alone(
    there: Program, odd: str, sql: str, wanted: list[str]
) -> None:
    told = there.json("propose", sql, "--type", "index")["remedies"]
    assert sorted(r["summary"].removeprefix("index on ") for r in told) == wanted
    if not told:
        return
    creates = [statement for remedy in told for statement in remedy["apply"]]
    with psycopg.connect(odd) as connection:  # rolled back
        for create in creates:
            connection.execute(create.encode())
        row = connection.execute(f"EXPLAIN (FORMAT JSON) {sql}".encode()).fetchone()
        connection.rollback()
    assert row is not None
    for remedy in told:
        (query,) = remedy["queries"]
        assert query["cost_predicted"] == pytest.approx(row[0][0]["Plan"]["Total Cost"], rel=0.25)
    shown = there.ok("propose", sql, "--type", "index").out
    if len(told) > 1:
        both = " ".join(f"--remedy {remedy['id']}" for remedy in told)
        assert "beside" in shown and both in " ".join(shown.split())


def test_one_side_of_or_that_serves_another_query_alone_takes_the_other_side_with_it(
    there: Program,
) -> None:
    either, alone = ("last = 'L7' OR first = 'F7'", "last = 'L7'")
    texts = [f"SELECT id FROM guest WHERE {where}" for where in (either, alone)]
    told = there.json("propose", *texts, "--type", "index")["remedies"]
    first = [r for r in told if not r["alternative"]]
    beside = {
        (r["summary"].removeprefix("index on "), q["id"]): q["serves_only_with"]
        for r in first
        for q in r["queries"]
    }
    assert beside == {
        ("guest (last)", "q1"): ["guest (first)"], ("guest (last)", "q2"): [],
        ("guest (first)", "q1"): ["guest (last)"],
    }, told  # fmt: skip


def _really(url: str, sql: str, remedy: Mapping[str, object]) -> tuple[float, bool, bool]:
    """(real cost, whether it is used, whether the way back removed it), as printed."""
    (create,) = remedy["apply"]  # type: ignore[misc]
    (drop,) = remedy["revert"]  # type: ignore[misc]
    name = create.split(" ON ")[0].removeprefix("CREATE INDEX ").strip('"')
    with psycopg.connect(url, autocommit=True) as connection:
        before = connection.execute(INDEXES).fetchone()
        connection.execute(create.encode())
        if "((" in create or "(lower" in create:
            connection.execute(b"ANALYZE")
        row = connection.execute(f"EXPLAIN (FORMAT JSON) {sql}".encode()).fetchone()
        connection.execute(drop.encode())
        after = connection.execute(INDEXES).fetchone()
    assert row is not None
    return row[0][0]["Plan"]["Total Cost"], name in str(row[0]), before == after


@only_oldest
def test_what_no_index_would_help_gets_none(there: Program, server: Server) -> None:
    with Workspace.find(there.folder) as workspace:
        for sql in DECLINED:
            assert propose(workspace, [sql], types=[RemedyType.INDEX]).remedies == (), sql


def test_a_huge_table_in_order_gets_a_small_index_of_ranges(there: Program, odd: str) -> None:
    sql = "SELECT line FROM log WHERE at BETWEEN '2026-01-03' AND '2026-01-03 04:00'"
    found = there.json("propose", sql, "--type", "index")["remedies"]
    ranges = [r for r in found if "USING brin" in r["summary"]]
    assert ranges, [r["summary"] for r in found]
    assert ranges[0]["size_bytes_predicted"] < 100_000
    (prediction,) = ranges[0]["queries"]
    real, used, removed = _really(odd, sql, ranges[0])
    assert used and removed
    assert prediction["cost_predicted"] == pytest.approx(real, rel=0.3)


def test_parts_of_texts_where_the_server_has_them(there: Program, odd: str) -> None:
    with psycopg.connect(odd) as connection:
        (has,) = connection.execute(
            "SELECT count(*) FROM pg_opclass WHERE opcname = 'gin_trgm_ops'"
        ).fetchone() or (0,)
    sql = "SELECT paper_id FROM paper WHERE words LIKE '%abc12%'"
    found = there.json("propose", sql, "--type", "index")["remedies"]
    assert [r["summary"] for r in found] == (
        ["index on paper USING gin (words gin_trgm_ops)"] if has else []
    )
    if has:
        _, used, removed = _really(odd, sql, found[0])
        assert used and removed
        assert "rough guess" in found[0]["queries"][0]["caution"]


def test_views_and_partitions_are_right_or_declined(there: Program, odd: str) -> None:
    (through,) = there.json("propose", "SELECT number FROM late WHERE kind = 5")["remedies"][:1]
    assert '"Über Wache"."Boje" ("select"' in through["summary"]
    (whole,) = there.json("propose", "SELECT * FROM measure WHERE buoy = 5")["remedies"]
    assert whole["summary"] == "index on measure (buoy)"


def test_a_temporary_table_and_a_table_without_rights_are_told(there: Program, odd: str) -> None:
    assert "mine" in there.fails(4, "propose", "SELECT * FROM mine WHERE a = 1")
    visitor = odd.replace("//humble@", "//visitor@")
    assert "secret" in there.fails(
        4, "propose", "SELECT * FROM secret WHERE kind = 1", "--target", visitor
    )
    sql = "SELECT words FROM paper WHERE code = 'C-77'"
    found = there.json("propose", sql, "--target", visitor)["remedies"]
    assert found[0]["summary"].startswith("index on paper (code)")


def test_names_follow_the_pattern_and_avoid_each_other(there: Program, odd: str) -> None:
    file = there.folder / "humble.toml"
    file.write_text(file.read_text().replace("{table}_{columns}_idx", "ix_{columns}_{table}"))
    sql = "SELECT paper_id FROM paper WHERE code = 'C-77'"
    (create,) = there.json("propose", sql)["remedies"][0]["apply"]
    assert create.startswith("CREATE INDEX ix_code_paper ON paper (code)")
    with psycopg.connect(odd, autocommit=True) as connection:
        connection.execute("CREATE INDEX ix_code_paper ON paper (paper_id, code)")
        try:
            (create,) = there.json("propose", sql)["remedies"][0]["apply"]
        finally:
            connection.execute("DROP INDEX ix_code_paper")
    assert create.startswith("CREATE INDEX ix_code_paper_2 ON")
    file.write_text(file.read_text().replace("ix_{columns}_{table}", "ix_{nothing}"))
    assert 'it has no part "nothing"' in there.fails(2, "propose", sql)
