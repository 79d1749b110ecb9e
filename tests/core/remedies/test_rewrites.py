"""Statements written another way: what is turned, and what is left alone."""

from __future__ import annotations

from dataclasses import replace

import pytest
import sqlglot

from humble_ledger.core.dialect import STANDARD
from humble_ledger.core.messages import phrase
from humble_ledger.core.remedies.rewrites import registry
from humble_ledger.core.remedies.rewrites.comparisons import rewritings
from humble_ledger.core.remedies.rewrites.model import ALWAYS
from humble_ledger.core.remedies.rewrites.remedies import rewrite_remedies
from humble_ledger.core.remedies.rewrites.unions import without_removal
from humble_ledger.core.statements.turned.turning import turned_condition
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.demo.workload import load_workload
from tests.core.remedies.test_prediction import ALERT, READING, VISIT
from tests.plan_shapes import SHAPES
from tests.rule_cases import FIRES

TIMED = replace(
    ALERT,
    columns={
        **ALERT.columns,
        "raised_at": replace(ALERT.columns["raised_at"], type_name="timestamp with time zone"),
        "code": replace(ALERT.columns["code"], type_name="text"),
    },
)
TABLES = {TIMED.name: TIMED, READING.name: READING}


def where(sql: str) -> str:
    """The condition of the only rewriting of a statement on alert, "" when there is none."""
    found = list(rewritings(f"SELECT alert_id FROM alert AS a WHERE {sql}", TABLES, STANDARD))
    return found[0].sql.split(" WHERE ")[1] if found else ""


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ("date_trunc('day', raised_at) = '2026-05-02'",
         "(raised_at >= CAST('2026-05-02' AS TIMESTAMPTZ) AND "
         "raised_at < CAST('2026-05-03' AS TIMESTAMPTZ))"),
        ("'2026-05-01' = date_trunc('month', a.raised_at)",
         "(a.raised_at >= CAST('2026-05-01' AS TIMESTAMPTZ) AND "
         "a.raised_at < CAST('2026-06-01' AS TIMESTAMPTZ))"),
        ("date_trunc('quarter', raised_at) = $1",
         "(raised_at >= CAST($1 AS TIMESTAMPTZ) AND "
         "raised_at < CAST($1 AS TIMESTAMPTZ) + INTERVAL '3 MONTH')"),
        ("alert_id = 17.0", "alert_id = 17"),
        ("17.00 >= a.alert_id", "17 >= a.alert_id"),
        ("a.kind IS NOT DISTINCT FROM 'ice'", "a.kind = 'ice'"),
        ("$1 IS NOT DISTINCT FROM alert_id", "alert_id = $1"),
        ("now() - raised_at < interval '1 day'",
         "raised_at > CURRENT_TIMESTAMP - INTERVAL '1 DAY'"),
        ("now() - raised_at >= interval '2 hours' AND kind = 'x'",
         "raised_at <= CURRENT_TIMESTAMP - INTERVAL '2 HOURS' AND kind = 'x'"),
        ("date_trunc('day', raised_at) = '2026-05-02' AND alert_id = 5.0",
         "(raised_at >= CAST('2026-05-02' AS TIMESTAMPTZ) AND "
         "raised_at < CAST('2026-05-03' AS TIMESTAMPTZ)) AND alert_id = 5"),
    ],
)  # fmt: skip
def test_comparisons_are_turned(before: str, after: str) -> None:
    assert where(before) == after


@pytest.mark.parametrize(
    ("before", "after", "always"),
    [
        ("raised_at AT TIME ZONE 'UTC' >= '2026-05-02'",
         "raised_at >= CAST('2026-05-02' AS TIMESTAMPTZ) AT TIME ZONE 'UTC'", True),
        ("$1 > (a.raised_at AT TIME ZONE 'Europe/Oslo')",
         "a.raised_at < CAST($1 AS TIMESTAMPTZ) AT TIME ZONE 'Europe/Oslo'", False),
    ],
)  # fmt: skip
def test_a_local_time_told_as_a_moment_is_turned_too(before: str, after: str, always: bool) -> None:
    raised = replace(ALERT.columns["raised_at"], type_name="timestamp without time zone")
    table = replace(TIMED, columns={**TIMED.columns, "raised_at": raised})
    sql = f"SELECT alert_id FROM alert AS a WHERE {before}"
    (found,) = rewritings(sql, {table.name: table}, STANDARD)
    assert found.sql.split(" WHERE ")[1] == after and (found.same_when == ALWAYS) == always


@pytest.mark.parametrize(
    ("conditions", "turned"),
    [
        (["date(alert.raised_at) = '2026-05-02'"], False),
        (["(alert.alert_id + 5) > 7"], True),
        (["\"left\"(alert.code, 3) = 'abc'"], False),
    ],
)
def test_a_server_without_types_of_days_is_not_asked_as_if_it_had_them(
    conditions: list[str], turned: bool
) -> None:
    bare = replace(STANDARD, times=False, like_tells_case=False)
    assert turned_condition(conditions, TIMED) is not None
    assert (turned_condition(conditions, TIMED, bare) is not None) == turned


def test_conditions_in_the_notation_of_plans_are_turned_together() -> None:
    plan = ["EXTRACT(year FROM a.raised_at) = '2026'::numeric",
            "EXTRACT(month FROM a.raised_at) = '5'::numeric", "a.kind = 'ice'::text"]  # fmt: skip
    told = turned_condition(plan, TIMED) or ""
    assert "2026-05-01" in told and "2026-06-01" in told and "EXTRACT" not in told
    assert turned_condition(["a.kind = 'ice'::text"], TIMED) is None


@pytest.mark.parametrize(
    ("span", "always"),
    [
        ("interval '2 hours'", True),
        ("'00:20:00'::interval", True),
        ("interval '90 minutes'", True),
        ("interval '1 day'", False),  # clocks may be put forward or back within it
        ("interval '2 months'", False),
        ("$1", False),
    ],
)
def test_only_of_what_is_equally_long_everywhere_nothing_need_be_known(
    span: str, always: bool
) -> None:
    sql = f"SELECT alert_id FROM alert AS a WHERE now() - raised_at < {span}"
    (found,) = rewritings(sql, TABLES, STANDARD)
    assert (found.same_when == ALWAYS) == always


@pytest.mark.parametrize(
    ("condition", "told"),
    [
        ("now() - raised_at > interval '2 months'", "no row lies within days of the limit"),
        ("raised_at + interval '1 year 2 days' > '2026-05-01'", "no row lies within days"),
        ("age(raised_at) > interval '100 days'", "no row lies within days of the limit"),
        ("age(raised_at) > interval '2 hours'", "the interval has no months or years"),
        ("raised_at + interval '3 days' > '2026-05-01'", "over which clocks were changed"),
        ("now() - raised_at > $1", "the interval has no months or years"),
    ],
)
def test_what_must_hold_for_an_interval_is_nothing_that_it_breaks_itself(
    condition: str, told: str
) -> None:
    (found,) = rewritings(f"SELECT 1 FROM alert AS a WHERE {condition}", TABLES, STANDARD)
    assert told in found.same_when


@pytest.mark.parametrize(
    "condition",
    [
        "kind = 'ice'",
        "alert_id = 17",
        "kind IS NOT DISTINCT FROM NULL",
        "kind IS NOT DISTINCT FROM code",
        "alert_id = 17.5",  # no row can match; not ours to say so silently
        "code = '17.0'",
        "date_trunc('day', raised_at) = date_trunc('day', a.raised_at)",
        "date_trunc('century', raised_at) = '2026-05-02'",
        "date_trunc('day', code) = '2026-05-02'",
        "date_trunc('day', raised_at) = (SELECT max(raised_at) FROM alert)",
        "now() - raised_at < age(raised_at)",
        "raised_at - now() < interval '1 day'",
        "unknown_column = 5.0",
        "this is no SQL (",
    ],
)
def test_what_would_mean_something_else_is_left_alone(condition: str) -> None:
    assert where(condition) == ""


def symptom(cause: str) -> Symptom:
    return Symptom("selective-full-scan", 1, "", phrase(""), {}, Cause(cause, phrase("")))


@pytest.mark.parametrize(
    ("sql", "cause", "offered"),
    [
        ("SELECT 1 FROM alert WHERE alert_id = 17.0", "type-mismatch", True),
        ("SELECT 1 FROM alert WHERE alert_id = 17.0", "", True),  # what it finds is a guess
        ("SELECT 1 FROM alert WHERE alert_id = 17 OR code = 'x'", "", False),  # nothing costs time
        ("DELETE FROM alert WHERE alert_id = 17.0", "type-mismatch", False),
        ("SELECT 1 FROM alert WHERE alert_id = 17.0 FOR UPDATE", "type-mismatch", False),
    ],
)
def test_only_reads_whose_symptom_calls_for_it_are_rewritten(
    sql: str, cause: str, offered: bool
) -> None:
    found = list(rewrite_remedies(sql, TABLES, [symptom(cause)] if cause else [], "q1"))
    assert bool(found) == offered
    if found:
        assert found[0].revert == (f"{sql};",)
        assert "is the same when" in found[0].reason


def test_every_statement_is_rewritten_to_another_one_that_parses() -> None:
    """Over all statements the tests know: nothing is raised, nothing comes back unchanged."""
    known = {t.name: t for t in (TIMED, READING, VISIT)}
    statements = [s[1] if isinstance(s, tuple) else s for s in SHAPES.values()]
    statements += [each[1] for each in FIRES] + [each.sql for each in load_workload()]
    found = 0
    for sql in statements:
        for way in registry.rewritings(sql, known):
            found += 1
            again = sqlglot.parse_one(way.sql, dialect="postgres").sql("postgres")
            assert again != sqlglot.parse_one(sql, dialect="postgres").sql("postgres"), sql
            assert way.done
    assert found >= 5


@pytest.mark.parametrize(
    ("sql", "turned"),
    [
        ("SELECT alert_id, 'old' FROM alert UNION SELECT alert_id, 'new' FROM alert", True),
        ("SELECT 1, alert_id FROM alert UNION SELECT 2, alert_id FROM alert "
         "UNION SELECT 3, reading_id FROM reading ORDER BY 2", True),
        # The second and the third may have the same rows.
        ("SELECT 1, alert_id FROM alert UNION SELECT 2, alert_id FROM alert "
         "UNION SELECT 2, reading_id FROM reading", False),
        ("SELECT alert_id, 'a' FROM alert UNION SELECT alert_id, 'A' FROM alert", False),
        ("SELECT alert_id, 'a' FROM alert UNION SELECT alert_id, 'á' FROM alert", False),
        ("SELECT alert_id, 1 FROM alert UNION SELECT alert_id, 1.0 FROM alert", False),
        ("SELECT kind, 'old' FROM alert UNION SELECT kind, 'new' FROM alert", False),
        ("SELECT a.alert_id, 'old' FROM alert a JOIN reading r ON true "
         "UNION SELECT alert_id, 'new' FROM alert", False),
        ("SELECT alert_id, 'old' FROM alert UNION ALL SELECT alert_id, 'new' FROM alert", False),
        ("SELECT alert_id, 'x' FROM alert INTERSECT SELECT alert_id, 'y' FROM alert", False),
        ("SELECT alert_id, 'old' FROM alert UNION SELECT 7, 'new'", False),
    ],
)  # fmt: skip
def test_a_union_removes_nothing_only_where_no_row_can_come_twice(sql: str, turned: bool) -> None:
    keyed = {
        name: replace(
            facts,
            indexes=(replace(facts.indexes[0], unique=True, primary=True), *facts.indexes[1:]),
        )
        for name, facts in TABLES.items()
    }
    found = list(without_removal(sql, keyed))
    assert bool(found) == turned
    if turned:
        assert found[0].sql.count("UNION ALL") == sql.count("UNION")
