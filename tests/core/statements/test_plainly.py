"""Conditions as people would write them, and what an index makes of them."""

from __future__ import annotations

import pytest

from humble_ledger.core.statements.conditions import PredicateKind, Wrapping, predicates
from humble_ledger.core.statements.plainly import plainly


@pytest.mark.parametrize(
    ("printed", "said"),
    [
        ("(a.kind = 'ice'::text)", "kind = 'ice'"),
        ("((reading.reading_id)::numeric = 918273.0)", "reading_id::numeric = 918273.0"),
        ("(r.taken_at >= '2026-06-29 00:00:00+00'::timestamp with time zone)",
         "taken_at >= '2026-06-29 00:00:00+00'"),
        ("(date_trunc('day'::text, alert.raised_at) = '2026-05-02'::date)",
         "date_trunc('day', raised_at) = '2026-05-02'"),
        ("((alert.code)::text = 'E'::text)", "code = 'E'"),
        ("x.code = ('E'::character varying(20))::text", "code = 'E'"),
        ("(a.b = 1) AND (a.c = 2)", "(b = 1) AND (c = 2)"),
        ("(alert.message ~~ '%::text.a b%'::text)", "message ~~ '%::text.a b%'"),
        ("(t.v = 1.5::numeric(10,2))", "v = 1.5"),
        ('"alert"."Odd Name" = 5', '"Odd Name" = 5'),
        ('"buoy_id" = \'200\'', "buoy_id = '200'"),
        ("", ""),
    ],
)  # fmt: skip
def test_conditions_are_said_plainly(printed: str, said: str) -> None:
    assert plainly(printed) == said


def test_long_conditions_are_cut_in_their_middle() -> None:
    said = plainly(f"(a.kind = ANY ('{{{','.join(map(str, range(100)))}}}'::text[]))")
    assert "…" in said
    assert len(said) < 90


@pytest.mark.parametrize(
    ("printed", "kind", "negated", "choices"),
    [
        ("(alert.kind <> 'ice'::text)", PredicateKind.OTHER, True, ()),
        ("(alert.kind <> ALL ('{ice,hull}'::text[]))", PredicateKind.OTHER, True, ()),
        ("(alert.message !~~ '%a%'::text)", PredicateKind.PATTERN, True, ()),
        ("(alert.kind IS DISTINCT FROM 'ice'::text)", PredicateKind.OTHER, True, ()),
        ("(alert.message ~~* 'a%'::text)", PredicateKind.PATTERN, False, ()),
        ("((alert.kind = 'ice'::text) OR (alert.crew = 'x'::text))", PredicateKind.OTHER, False,
         ("kind", "crew")),
        ("(alert.kind = 'a <> b'::text)", PredicateKind.EQUALITY, False, ()),
        ("(alert.raised_at >= (InitPlan 1).col1)", PredicateKind.RANGE, False, ()),
    ],
)  # fmt: skip
def test_what_keeps_an_index_away_is_read_from_a_condition(
    printed: str, kind: PredicateKind, negated: bool, choices: tuple[str, ...]
) -> None:
    (found,) = predicates(printed)
    assert (found.kind, found.negated) == (kind, negated)
    assert tuple(ref.column for ref in found.choices) == choices
    if not choices:
        assert found.column is not None
        assert found.wrapping is Wrapping.NONE
