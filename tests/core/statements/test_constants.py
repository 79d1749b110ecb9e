"""What stays the same whenever a statement is sent, and how a predicate is parted."""

from __future__ import annotations

from collections.abc import Sequence

import pytest

from humble_ledger.core.statements.changes import Change, change_of
from humble_ledger.core.statements.conditions import predicates
from humble_ledger.core.statements.constants import Constants
from humble_ledger.core.statements.parting import halves, unqualified

Run = tuple[Sequence[str], Sequence[str | None]]


@pytest.mark.parametrize(
    ("runs", "condition", "always"),
    [
        ([(("'open'", "3"), ()), (("'open'", "8"), ()), (("'open'", "3"), ())],
         "status = 'open'::text", True),
        ([(("'open'", "3"), ()), (("'open'", "8"), ()), (("'open'", "3"), ())],
         "region_id = 3", False),
        ([(("'open'", "3"), ())] * 5, "status = 'open'::text", False),  # one question, five times
        ([(("'open'", "3"), ())] * 20, "status = 'open'::text", True),
        ([(("'open'",), ("1",)), (("'open'",), ("2",)), (("'open'",), ("3",))],
         "status = 'open'::text", True),
        ([(("'open'",), ("1",)), (("'open'",), ("2",)), (("'open'",), ("3",))], "a = 2", False),
        ([(("'a'", "'b'", "1"), ()), (("'a'", "'b'", "2"), ()), (("'a'", "'b'", "3"), ())],
         "kind = ANY ('{a,b}'::text[])", True),
        ([(("'open'", "3"), ()), (("'open'", "8"), ())], "status = 'open'::text", False),
    ],
)  # fmt: skip
def test_constants_are_what_never_varies(runs: list[Run], condition: str, always: bool) -> None:
    (predicate,) = predicates(condition)
    assert Constants.of_runs(runs).always(predicate) is always


def test_a_statement_given_as_text_is_taken_as_it_is_but_for_its_parameters() -> None:
    constants = Constants.of_text("SELECT 1 FROM t WHERE a = 'x' AND b = $1")
    (one,), (other,) = predicates("a = 'x'::text"), predicates("b = $1")
    assert constants.always(one) and not constants.always(other)


@pytest.mark.parametrize(
    ("predicate", "parted"),
    [
        ("lower(a.code) = 'x'::text", ("lower(a.code)", "=", "'x'::text")),
        ("((reading_id)::numeric) = 9.0", ("(reading_id)::numeric", "=", "9.0")),
        ("(data ->> 'kind'::text) = 'x'::text", ("data ->> 'kind'::text", "=", "'x'::text")),
        ("tags && '{1}'::integer[]", ("tags", "&&", "'{1}'::integer[]")),
        ("a.done", None),
        ("(a.body like 'x = y%')", None),
        ("a.body like 'x = y%'", ("a.body", "LIKE", "'x = y%'")),
        ("lower(a.body) NOT LIKE 'x%'", ("lower(a.body)", "NOT LIKE", "'x%'")),
        ("a.liked = 'x'", ("a.liked", "=", "'x'")),
    ],
)
def test_predicates_are_parted(predicate: str, parted: tuple[str, str, str] | None) -> None:
    assert halves(predicate) == parted


def test_only_the_alias_before_a_column_is_left_out() -> None:
    assert unqualified('lower(a.code) = \'a.code\' || "a"."x y"', "a") == (
        "lower(code) = 'a.code' || \"x y\""
    )


@pytest.mark.parametrize(
    ("sql", "change"),
    [
        ("UPDATE alert SET status = $1, crew = 'x' WHERE alert_id = 1",
         Change("UPDATE", "alert", frozenset({"status", "crew"}))),
        ("INSERT INTO s.alert (a) VALUES (1)", Change("INSERT", "s.alert")),
        ("DELETE FROM alert WHERE a = 1", Change("DELETE", "alert")),
        ("SELECT 1", None),
        ("UPDATE ((", None),
    ],
)  # fmt: skip
def test_changes_name_their_table_and_columns(sql: str, change: Change | None) -> None:
    assert change_of(sql) == change
