"""Lines of EXPLAIN QUERY PLAN, of several versions, and what stands behind them."""

from __future__ import annotations

import pytest

from humble_ledger.core.plans.model import Operation, Plan
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.sqlite.address import is_database, not_kept, public_url
from humble_ledger.engines.sqlite.plans.format import SqlitePlans
from humble_ledger.engines.sqlite.plans.listing import Kind, line_of
from humble_ledger.engines.sqlite.plans.statement import own_words, parsed
from humble_ledger.engines.sqlite.schema import affinity_of, key_expressions, predicate_of
from humble_ledger.engines.sqlite.values import bindings, prepared, typed
from humble_ledger.errors import UnreadableInput

READ: list[tuple[str, str, str, tuple[tuple[str, str], ...]]] = [
    ("SCAN reading", "reading", "", ()),
    ("SCAN TABLE reading AS r", "r", "", ()),
    ("SCAN main.reading", "reading", "", ()),
    ("SEARCH r USING INDEX i (a=? AND b>?)", "r", "i", (("a", "="), ("b", ">"))),
    ("SEARCH TABLE r USING COVERING INDEX i (a=?) (~10 rows)", "r", "i", (("a", "="),)),
    ("SEARCH r USING INTEGER PRIMARY KEY (rowid=?)", "r", "", (("rowid", "="),)),
    ("SEARCH r USING INDEX i (ANY(a) AND b<?)", "r", "i", (("a", "any"), ("b", "<"))),
    ("SEARCH r USING INDEX i ((a,b)>(?,?))", "r", "i", (("a", ">"), ("b", ">"))),
    ("SEARCH r USING INDEX i (<expr>=?)", "r", "i", (("<expr>", "="),)),
    ("SEARCH r USING INDEX i (a=?) LEFT-JOIN", "r", "i", (("a", "="),)),
    ("SEARCH r EXISTS USING INDEX i (a=?)", "r", "i", (("a", "="),)),
    ("SCAN r VIRTUAL TABLE INDEX 1:", "r", "", ()),
]


@pytest.mark.parametrize(("words", "name", "index", "terms"), READ)
def test_what_is_read_is_taken_from_a_line(
    words: str, name: str, index: str, terms: tuple[tuple[str, str], ...]
) -> None:
    line = line_of(words)
    assert line.kind in (Kind.SCAN, Kind.SEARCH)
    assert (line.name, line.index, line.terms) == (name, index, terms)


@pytest.mark.parametrize(
    ("words", "kind"),
    [
        ("SCAN CONSTANT ROW", Kind.CONSTANT),
        ("SCAN 3-ROW VALUES CLAUSE", Kind.CONSTANT),
        ("MULTI-INDEX OR", Kind.EITHER),
        ("USE TEMP B-TREE FOR ORDER BY", Kind.SORT),
        ("CORRELATED SCALAR SUBQUERY 2", Kind.SUBQUERY),
        ("LIST SUBQUERY 1", Kind.SUBQUERY),
        ("CO-ROUTINE x", Kind.SOURCE),
        ("MATERIALIZE x", Kind.SOURCE),
        ("COMPOUND QUERY", Kind.COMPOUND),
        ("MERGE (UNION)", Kind.COMPOUND),
        ("UNION USING TEMP B-TREE", Kind.MEMBER),
        ("BLOOM FILTER ON r (a=?)", Kind.OTHER),
        ("WHATEVER COMES NEXT YEAR", Kind.OTHER),
    ],
)
def test_each_line_is_of_a_kind(words: str, kind: Kind) -> None:
    assert line_of(words).kind is kind


TREE = """QUERY PLAN
|--SCAN b
|--SEARCH r USING AUTOMATIC COVERING INDEX (buoy_id=?)
`--CORRELATED SCALAR SUBQUERY 1
   `--SEARCH a USING INDEX i (x=?)
"""


def saved(text: str) -> Plan:
    form = SqlitePlans()
    return form.read(form.document(text))


def test_a_saved_listing_is_read_without_its_database() -> None:
    assert SqlitePlans().looks_like(TREE)
    plan = saved(TREE)
    found = [(n.operation, n.relation or n.label) for n in plan.nodes()]
    assert (Operation.HASH_JOIN, "LOOKUP IN AUTOMATIC INDEX") in found
    assert (Operation.INDEX_SCAN, "a") in found
    assert plan.cost_total is None and plan.own_estimates and not plan.measured
    assert saved("QUERY PLAN\n`--SCAN reading\n").root.operation is Operation.FULL_SCAN


@pytest.mark.parametrize(
    "text", ["QUERY PLAN\n", "QUERY PLAN\nnothing of the kind\n", '{"sqlite_plan": 1}']
)
def test_what_is_no_listing_is_refused_in_words(text: str) -> None:
    with pytest.raises(UnreadableInput):
        saved(text)


@pytest.mark.parametrize(
    ("declared", "affinity"),
    [
        ("INTEGER", "INTEGER"), ("bigint", "INTEGER"), ("VARCHAR(20)", "TEXT"), ("clob", "TEXT"),
        ("", "BLOB"), ("BLOB", "BLOB"), ("double precision", "REAL"), ("decimal(9,2)", "NUMERIC"),
        ("DATETIME", "NUMERIC"), ("FLOATING POINT", "INTEGER"),
    ],
)  # fmt: skip
def test_affinity_goes_by_the_five_rules(declared: str, affinity: str) -> None:
    assert affinity_of(declared) == affinity


@pytest.mark.parametrize(
    ("sql", "keys", "predicate"),
    [
        ("CREATE INDEX i ON t (a, lower(b) DESC)", ("a", "lower(b)"), ""),
        ("CREATE INDEX i ON t(a) WHERE b > '(' AND c", ("a",), "b > '(' AND c"),
        ("create unique index i on t (substr(a, 1, 2), b collate nocase)",
         ("substr(a, 1, 2)", "b collate nocase"), ""),
        ("", (), ""),
        ('CREATE INDEX "go ON (x" ON t(a)', ("a",), ""),
        ("CREATE INDEX i ON t(a /* ), */, b) -- ON (c)", ("a", "b"), ""),
        ("CREATE INDEX i ON [t (x](`a,)`, b) -- WHERE no\n WHERE b > 1", ("`a,)`", "b"), "b > 1"),
    ],
)  # fmt: skip
def test_keys_and_condition_of_an_index_are_read(
    sql: str, keys: tuple[str, ...], predicate: str
) -> None:
    assert key_expressions(sql) == keys and predicate_of(sql) == predicate


@pytest.mark.parametrize(
    ("kept", "sent"),
    [("7", 7), ("-7", -7), ("007", "007"), ("1.5", 1.5), ("", ""), ("1e3", "1e3"), (None, None),
     ("12345678901234567890", "12345678901234567890")],
)  # fmt: skip
def test_kept_values_are_sent_as_what_they_were(kept: str | None, sent: object) -> None:
    assert typed(kept) == sent and type(typed(kept)) is type(sent)


@pytest.mark.parametrize(
    ("sql", "sent"),
    [
        ("SELECT ?1, ?2 WHERE a = '?1'", "SELECT $1, $2 WHERE a = '?1'"),
        ("SELECT a FROM t WHERE b LIKE 'what?2%' AND c = ?", None),
        ("SELECT a FROM t WHERE b=?2 -- ?9", "SELECT a FROM t WHERE b=$2 -- ?9"),
    ],
)
def test_only_parameters_are_numbered(sql: str, sent: str | None) -> None:
    wanted = sent or "SELECT a FROM t WHERE b LIKE 'what?2%' AND c = $1"
    assert prepared(Statement(sql, ("x", "y")))[0] == wanted


def test_a_hint_within_a_text_is_none() -> None:
    tree = parsed("SELECT * FROM t NOT INDEXED WHERE note = 'is not indexed by hand'")
    assert tree is not None and "'is not indexed by hand'" in own_words(tree)


def test_parameters_without_a_value_are_null() -> None:
    assert bindings("SELECT $1, $2, :name", ("5",)) == {"1": 5, "2": None, "name": None}


def test_addresses_by_path_and_by_url(tmp_path: object, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(str(tmp_path))
    assert is_database("app.db") and is_database("some/app.sqlite3")
    assert not is_database("app.txt") and not is_database("host=x dbname=y")
    for url in ("app.db", "sqlite:///app.db", f"sqlite:///{tmp_path}/app.db"):
        assert public_url(url).startswith("sqlite:///") and public_url(url).endswith("app.db")
    assert not_kept("sqlite:///app.db?key=secret&mode=ro") == ("key", "mode")
    assert "secret" not in public_url("sqlite:///app.db?key=secret")
