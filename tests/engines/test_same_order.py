"""Casts and collations: what we say an index serves is what the server serves by it."""

from __future__ import annotations

from contextlib import closing

import pytest

from humble_ledger.core.schema.casts import real_wrapping
from humble_ledger.core.schema.collations import finds_beginnings
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.conditions import Wrapping, predicates
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import ExplainOptions, Limits
from humble_ledger.engines.postgresql.session import PostgresSession
from tests.conftest import Server

CASTS = [
    ("varchar(20)", "'a'::text"), ("char(12)", "'a'::text"), ("name", "'a'::text"),
    ("text", "'a'::varchar"), ("varchar", "'a'::char(3)"), ("char(3)", "'a'::varchar"),
    ("same_order_email", "'a'::text"), ("same_order_short", "'a'::text"),
    ("cidr", "'10.0.0.0/8'::inet"), ("bit(4)", "B'1010'::varbit"), ("integer", "5::bigint"),
    ("bigint", "5::numeric"), ("integer", "5::float8"), ("date", "now()"),
]  # fmt: skip


@pytest.fixture
def domains(server: Server) -> None:
    for name, base in (("email", "text"), ("short", "varchar(9)")):
        server.do(f"DROP DOMAIN IF EXISTS same_order_{name} CASCADE")
        server.do(f"CREATE DOMAIN same_order_{name} AS {base}")


@pytest.mark.parametrize(("type_", "value"), CASTS)
def test_a_cast_hides_the_column_where_the_server_says_so(
    server: Server, domains: None, type_: str, value: str
) -> None:
    server.do("DROP TABLE IF EXISTS same_order")
    server.do(f"CREATE TABLE same_order (x {type_})")
    server.do("CREATE INDEX ON same_order (x)")
    with closing(PostgresSession(server.url, Limits())) as session:
        served, condition = _served(session, f"SELECT * FROM same_order WHERE x = {value}")
        table = session.tables([TableName("public", "same_order")])[
            TableName("public", "same_order")
        ]
    (found,) = predicates(condition)
    column = table.columns["x"]
    # One that cannot be read is taken for one that no index serves.
    ours = found.column is not None and real_wrapping(column, found) is Wrapping.NONE
    assert ours == served, condition


COLLATIONS = ("C", "POSIX", "C.utf8", "ucs_basic", "pg_c_utf8", "pg_unicode_fast")


def test_a_pattern_uses_the_order_of_bytes_where_the_server_does(server: Server) -> None:
    known = {row[0] for row in server.fetch("SELECT collname::text FROM pg_collation")}
    assert {"C", "POSIX", "ucs_basic"} <= known
    for name in ("", *(each for each in COLLATIONS if each in known)):
        _compare_with_pattern(server, name)


def _compare_with_pattern(server: Server, name: str) -> None:
    collate = f'COLLATE "{name}"' if name else ""
    server.do("DROP TABLE IF EXISTS same_order")
    server.do(f"CREATE TABLE same_order (x text {collate}, y text)")
    server.do("CREATE INDEX ON same_order (x)")
    server.do(f"CREATE INDEX ON same_order (y {collate})")
    with closing(PostgresSession(server.url, Limits())) as session:
        served, _ = _served(session, "SELECT * FROM same_order WHERE x LIKE 'abc%'")
        table = session.tables([TableName("public", "same_order")])[
            TableName("public", "same_order")
        ]
    by_column = {index.keys[0].column: index.keys[0] for index in table.indexes}
    assert finds_beginnings(by_column["x"], table.columns["x"], regular=False) == served, name
    assert finds_beginnings(by_column["y"], table.columns["y"], regular=False) == served, name


def _served(session: PostgresSession, sql: str) -> tuple[bool, str]:
    """Whether an index finds the rows when the table may not be read whole, and the condition."""
    plan = session.explain(
        Statement(sql), ExplainOptions(settings=(("enable_seqscan", "off"),))
    ).plan
    nodes = list(plan.nodes())
    searched = [text for node in nodes for text in node.conditions.search]
    return bool(searched), next(iter([*searched, *(t for n in nodes for t in n.conditions.filter)]))
