"""Bodies that former versions wrote, read by this one."""

from __future__ import annotations

from typing import Any

import msgspec
import pytest

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.remedies.model import Remedy, RemedyType
from humble_ledger.core.remedies.operations import Custom
from humble_ledger.core.remedies.rendering import rendered
from humble_ledger.engines.mysql.dialect import FAMILY
from humble_ledger.engines.postgresql.dialect import POSTGRESQL
from humble_ledger.ledger.bodies import decoded

INDEX = {"table": {"schema": "sea", "name": "Odd"}, "keys": [{"column": "a"}, {"column": "b"}]}
# What each kind of remedy was when it was told by fields (version 2).
BY_FIELDS: list[tuple[str, Dialect, dict[str, Any]]] = [
    (
        "index",
        POSTGRESQL,
        {
            "type": "index", "index": INDEX, "index_name": "odd_a",
            "apply": ['CREATE INDEX odd_a ON sea."Odd" (a, b);'],
            "revert": ["DROP INDEX sea.odd_a;"],
        },
    ),
    (
        "removal",
        POSTGRESQL,
        {
            "type": "removal", "removes": ["public", "alert_old"], "removes_from": "",
            "apply": ["DROP INDEX alert_old;"],
            "revert": ['CREATE INDEX alert_old ON public."Al ert" USING btree (code);'],
        },
    ),
    (
        "removal",
        FAMILY,
        {
            "type": "removal", "removes": ["", "alert_old"], "removes_from": "alert",
            "apply": ["DROP INDEX alert_old ON alert;"],
            "revert": ["CREATE INDEX alert_old ON alert (code);"],
        },
    ),
    (
        "setting",
        POSTGRESQL,
        {
            "type": "setting", "settings": [["work_mem", "64MB"]],
            "apply": ["SET work_mem = '64MB';"], "revert": ["RESET work_mem;"],
        },
    ),
    (
        "rewrite",
        POSTGRESQL,
        {
            "type": "rewrite", "values_from": "SELECT 1", "beside": INDEX,
            "apply": ["SELECT 2;"], "revert": ["SELECT 3;"],
        },
    ),
    (
        "statistics",
        POSTGRESQL,
        {
            "type": "statistics",
            "together": {"table": {"schema": "sea", "name": "alert"}, "columns": ["code", "Crew"]},
            "apply": [
                'CREATE STATISTICS sea."odd""one_stats" (dependencies, mcv) ON code, "Crew" '
                "FROM sea.alert;",
                "ANALYZE sea.alert;",
            ],
            "revert": ['DROP STATISTICS sea."odd""one_stats";'],
        },
    ),
    (
        "statistics",
        POSTGRESQL,
        {"type": "statistics", "apply": ["ANALYZE alert;"], "revert": []},
    ),
    (
        "change",
        POSTGRESQL,
        {"type": "change", "apply": ["CLUSTER a;", "ANALYZE;"], "revert": ["SELECT 1;"]},
    ),
]  # fmt: skip


@pytest.mark.parametrize(("type_", "dialect", "told"), BY_FIELDS)
def test_a_remedy_told_by_fields_does_what_it_did(
    type_: str, dialect: Dialect, told: dict[str, Any]
) -> None:
    content = msgspec.json.encode({"summary": "as it was", **told})
    remedy = decoded(b'{"body_version":2,"body":' + content + b"}", Remedy, "r1")
    assert remedy.type == RemedyType(type_) and remedy.summary == "as it was"
    words = rendered(remedy.operation, dialect)
    assert list(words.forward) == told["apply"] and list(words.backward) == told["revert"]


def test_the_index_beside_a_text_and_the_table_of_one_that_went_are_kept() -> None:
    found = {}
    for type_, _, told in BY_FIELDS:
        content = msgspec.json.encode({"summary": "", **told})
        found[type_] = decoded(b'{"body_version":2,"body":' + content + b"}", Remedy, "r1")
    assert found["rewrite"].index_wanted is not None
    assert found["rewrite"].index_wanted.key_columns == ("a", "b")
    assert found["removal"].removal is not None and found["removal"].removal.table.name == "alert"
    assert isinstance(found["change"].operation, Custom)
