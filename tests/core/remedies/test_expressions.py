"""Indexes on expressions, and on what stands inside values."""

from __future__ import annotations

from dataclasses import replace

import pytest

from humble_ledger.core.remedies.candidates.model import IndexAbilities
from humble_ledger.core.remedies.candidates.registry import candidates
from humble_ledger.core.schema.facts import TableFacts
from tests.core.remedies.test_prediction import table
from tests.plans import plan_of, step


def lots() -> TableFacts:
    plain = table("lot", 100_000, 4_000, "lot_id", "reserve", "opens", "words")
    kinds = {"reserve": "decimal(10,2)", "opens": "timestamp without time zone"}
    columns = {
        name: replace(column, type_name=kinds.get(name, column.type_name))
        for name, column in plain.columns.items()
    }
    columns["words"] = replace(
        columns["words"], type_name="tsvector", enclosing_operators=frozenset(("@@",))
    )
    return replace(plain, columns=columns)


def designs(condition: str, *, told: bool = False) -> list[str]:
    facts = lots()
    plan = plan_of(
        step("Seq Scan", rows=5, cost=31_250.0, Relation_Name="lot", Schema="public", Alias="lot",
             Filter=condition)
    )  # fmt: skip
    means = IndexAbilities(is_immutable=lambda _, __: True, keys_tell_kinds=told)
    return [c.design.words for c in candidates(plan, {facts.name: facts}, means)]


@pytest.mark.parametrize(
    ("condition", "served"),
    [
        ("((lot.reserve * 1.2) > 1100)", False),
        ("((lot.reserve * 1.2) > 1100.5)", True),
        ("(COALESCE(lot.reserve, 0) = 915)", False),
        ("(COALESCE(lot.reserve, 0) = 915.0)", True),
        ("(month(lot.opens) = 5)", True),
        ("((lot.lot_id % 7) = 3)", True),
        ("(lower(lot.opens) = 'x')", True),
    ],
)
def test_a_server_that_tells_kinds_looks_up_numbers_of_the_same_kind(
    condition: str, served: bool
) -> None:
    assert bool(designs(condition, told=True)) == served
    assert designs(condition)


def test_expressions_that_are_compared_together_are_indexed_together() -> None:
    found = designs("((month(lot.opens) = 5) AND (dayofmonth(lot.opens) = 7))")
    assert any("month(opens)" in words and "dayofmonth(opens)" in words for words in found)


def test_words_are_looked_up_by_their_parts_and_not_by_a_tree() -> None:
    found = designs("(lot.words @@ '''oak'''::tsquery)")
    assert any("gin" in words for words in found)
    assert not any("gist" in words for words in found)


@pytest.mark.parametrize(
    ("condition", "expression"),
    [
        ("((lot.reserve - lot.lot_id) > 7)", "reserve - lot_id"),
        ("(7 < (lot.reserve - lot.lot_id))", "reserve - lot_id"),
        ("((lot.words ->> 'open'::text))::boolean", "(words ->> 'open'::text))::boolean"),
        ("(NOT ((lot.words ->> 'open'::text))::boolean)", "(words ->> 'open'::text))::boolean"),
        ("(ROW(lot.lot_id, lot.opens) > ROW(7, 8))", ""),  # nothing is computed
        ("(POSITION(('7'::text) IN (lot.words)) > 0)", ""),  # an index for this 7 alone
        ("(('2026-01-01'::date - lot.opens) > 7)", ""),
        ("(COALESCE(lot.opens, '1900-01-01'::date) > 7)", "COALESCE(opens"),
        ("((lot.reserve - lot.lot_id) > lot.opens)", ""),
    ],
)
def test_what_is_computed_from_columns_is_indexed_where_others_can_ask_for_it(
    condition: str, expression: str
) -> None:
    of_expressions = [words for words in designs(condition) if "((" in words or "(COA" in words]
    assert bool(of_expressions) == bool(expression), of_expressions
    assert all(expression in words for words in of_expressions)
