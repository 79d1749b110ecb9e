"""Choosing under a budget: against every set, on pools small enough to enumerate."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_ledger.core.remedies.candidates.registry import candidates
from humble_ledger.core.remedies.choice import searching
from humble_ledger.core.remedies.choice.budget_text import parse_budget, parse_share
from humble_ledger.core.remedies.choice.choosing import choose, pick
from humble_ledger.core.remedies.choice.merging import merged
from humble_ledger.core.remedies.choice.model import Budget, Option, Problem, Weighed
from humble_ledger.core.remedies.choice.superfluous import made_superfluous
from humble_ledger.core.remedies.choice.weights import Weights, weight_of
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.errors import WrongUsage
from humble_ledger.views.wording import in_words
from tests.core.remedies.test_prediction import READING, TABLES, table
from tests.plans import recorded

A, B, C, D = (parse_index(f"t{n} (a{n})", "public") for n in range(4))


def problem(
    served: dict[IndexDesign, dict[str, float]],
    sizes: dict[IndexDesign, int],
    weights: dict[str, float],
    budget: Budget = Budget(),  # noqa: B008
) -> Problem:
    """Queries of cost 100; of the indexes that serve one, the best counts."""

    def cost(query: str, designs: frozenset[IndexDesign]) -> float:
        return min([100.0, *(served[d][query] for d in designs if query in served[d])])

    return Problem(
        tuple(Weighed(q, w, 100.0) for q, w in weights.items()),
        tuple(Option(d, sizes[d]) for d in served),
        cost,
        budget,
        entries_now=1000.0,
    )


def best_of_all(given: Problem) -> float:
    """The most that any set within the budget saves."""
    options = given.options
    sets: list[Sequence[Option]] = [
        s for count in range(len(options) + 1) for s in combinations(options, count)
    ]
    return max(given.gain([o.design for o in s]) for s in sets if given.fits(s))


@st.composite
def problems(draw: st.DrawFn) -> Problem:
    """Up to ten indexes on up to four tables, up to eight queries, a budget."""
    queries = [f"q{n}" for n in range(draw(st.integers(1, 8)))]
    designs = [parse_index(f"t{n % 4} (a{n})", "public") for n in range(draw(st.integers(1, 10)))]
    served = {
        d: draw(st.dictionaries(st.sampled_from(queries), st.floats(1, 99), max_size=4))
        for d in designs
    }
    sizes = {d: draw(st.integers(1, 100)) for d in designs}
    weights = {q: draw(st.floats(0.1, 1000)) for q in queries}
    limit = draw(st.one_of(st.none(), st.integers(1, 300)))
    most = draw(st.one_of(st.none(), st.integers(1, 5)))
    return problem(served, sizes, weights, Budget(limit, most))


@pytest.mark.parametrize(
    ("saves", "weight", "kept"),
    [
        (60.0, 1.0, True),  # more than it must in a run
        (30.0, 1.0, False),
        (30.0, 40.0, True),  # less, but the query is sent so often that it counts
        (1.0, 1000.0, False),  # a hundredth of a query is not worth an index, however often
    ],
)
def test_next_to_no_cost_is_no_reason_to_build(saves: float, weight: float, kept: bool) -> None:
    given = Problem(
        (Weighed("q1", weight, 100.0), Weighed("q2", 900.0, 100.0)),
        (Option(A, 10, least=50.0),),
        lambda query, designs: 100.0 - saves if query == "q1" and A in designs else 100.0,
    )
    assert bool(pick(given)[0]) == kept


SIDES_OF_OR = (
    Option(A, 30, beside=(B,)), Option(B, 40, beside=(A,)), Option(C, 20),
)  # fmt: skip


@pytest.mark.parametrize(
    ("room", "chosen"), [(None, {A, B}), (100, {A, B}), (69, {C}), (10, set())]
)
def test_what_serves_only_together_is_chosen_together_or_not_at_all(
    room: int | None, chosen: set[IndexDesign]
) -> None:
    """q1 is cheap with both of a and b; c alone makes it a little cheaper."""

    def cost(query: str, designs: frozenset[IndexDesign]) -> float:
        return 5.0 if designs >= {A, B} else 70.0 if C in designs else 100.0

    given = Problem((Weighed("q1", 100.0, 100.0),), SIDES_OF_OR, cost, Budget(room))
    choice = choose(given)
    assert {p.option.design for p in choice.picked} == chosen
    assert searching.upper_bound(given) >= choice.saved
    # And when there are too many options to compare every set.
    useful = [o for o in given.options if problem_fits(given, o)]
    assert {o.design for o in searching.searched(given, useful)} >= chosen


def problem_fits(given: Problem, option: Option) -> bool:
    return given.helps(option) and given.fits([option])


@given(problems())
def test_the_search_reaches_nearly_the_best_of_all_sets(given: Problem) -> None:
    exact, complete = searching.best_set(given)
    assert complete and given.gain([o.design for o in exact]) >= best_of_all(given) - 1e-6
    # What is done when there are too many options to compare every set.
    useful = [o for o in given.options if given.gain([o.design]) > 0 and given.fits([o])]
    found = searching.searched(given, useful)
    best = best_of_all(given)
    assert given.fits(found)
    assert given.gain([o.design for o in found]) >= 0.98 * best - 1e-6
    assert searching.upper_bound(given) >= best - 1e-6


@given(problems())
def test_a_choice_keeps_within_the_budget_and_explains_each(given: Problem) -> None:
    choice = choose(given)
    chosen = [p.option for p in choice.picked]
    assert given.fits(chosen)
    # Indexes that no query would miss are left out, so a little may be lost.
    assert choice.saved >= best_of_all(given) - 0.05 * choice.weight - 1e-6
    assert all(p.queries and p.adds > 0 for p in choice.picked)
    assert all(each.why for each in choice.left_out)
    assert [p.saved for p in choice.curve] == sorted(p.saved for p in choice.curve)


def test_a_second_index_on_a_query_counts_for_what_it_adds() -> None:
    served = {A: {"q1": 10.0}, B: {"q1": 12.0}, C: {"q2": 60.0}}
    sizes = {A: 50, B: 50, C: 50}
    choice = choose(problem(served, sizes, {"q1": 100.0, "q2": 100.0}, Budget(104)))
    assert {p.option.design for p in choice.picked} == {A, C}
    (left,) = choice.left_out
    assert in_words(left.why) == "q1: served by t0 (a0)"


@pytest.mark.parametrize(
    ("cost", "weight", "kept"),
    [
        (91.0, 1.0, False),  # a tenth of a hundredth of all
        (70.0, 1.0, True),
        (91.0, 50.0, True),  # a tenth of what is a third of all
        (98.5, 50.0, False),
    ],
)
def test_beside_others_an_index_must_be_worth_it_as_well(
    cost: float, weight: float, kept: bool
) -> None:
    served = {A: {"q1": 10.0}, B: {"q2": cost}}
    choice = choose(problem(served, {A: 50, B: 60}, {"q1": 100.0, "q2": weight}))
    assert (B in {p.option.design for p in choice.picked}) == kept


def test_what_many_queries_gain_a_little_by_is_kept() -> None:
    names = [f"q{n}" for n in range(20)]
    served = {A: dict.fromkeys(names, 90.0)}
    choice = choose(problem(served, {A: 50}, dict.fromkeys(names, 1.0)))
    assert [p.option.design for p in choice.picked] == [A]


def test_what_harms_a_query_alone_is_taken_beside_what_heals_it() -> None:
    """Index b makes q1 cheap and misleads the planner in q2, unless a is there, too."""
    a, b = Option(A, 1_000), Option(B, 1_000)
    costs = {
        "q1": {frozenset(): 100.0, frozenset([a.design]): 100.0, frozenset([b.design]): 10.0},
        "q2": {frozenset(): 100.0, frozenset([a.design]): 50.0, frozenset([b.design]): 900.0},
    }
    given = Problem(
        (Weighed("q1", 100.0, 100.0), Weighed("q2", 100.0, 100.0)),
        (a, b),
        lambda query, some: costs[query].get(some, {"q1": 10.0, "q2": 50.0}[query]),
    )
    assert {each.option.design for each in pick(given)[0]} == {a.design, b.design}
    # Without the other one it is not worth what it costs.
    alone = Problem(given.queries, (b,), given.cost_of)
    assert pick(alone)[0] == []


def test_what_does_not_fit_says_so() -> None:
    served = {A: {"q1": 10.0}, B: {"q2": 10.0}, C: {"q3": 10.0}}
    mib = 1024 * 1024
    sizes = {A: 50 * mib, B: 60 * mib, C: 500 * mib}
    weights = {"q1": 100.0, "q2": 90.0, "q3": 50.0}
    choice = choose(problem(served, sizes, weights, Budget(100 * mib)))
    assert [p.option.design for p in choice.picked] == [A]
    whys = {each.option.design: each.why for each in choice.left_out}
    assert "takes 60 MiB where 47 are left" in in_words(whys[B])
    assert "alone it takes more than the budget: 500 MiB" in in_words(whys[C])
    few = choose(problem(served, sizes, weights, Budget(indexes=1)))
    assert "one index too many" in in_words(few.left_out[0].why)


def test_what_adds_less_than_asked_for_is_left_out() -> None:
    served = {A: {"q1": 10.0}, B: {"q2": 50.0}, C: {"q3": 97.0}}
    given = problem(served, {A: 50, B: 50, C: 50}, {"q1": 1.0, "q2": 1.0, "q3": 1.0})
    assert [p.option.design for p in choose(given).picked] == [A, B, C]
    given.least_gain = 0.02  # of three queries: C saves a hundredth of them, B a sixth
    choice = choose(given)
    assert [p.option.design for p in choice.picked] == [A, B]
    assert "too little for --least-gain" in in_words(choice.left_out[0].why)
    given.least_gain = 0.2
    assert [p.option.design for p in choose(given).picked] == [A]


@pytest.mark.parametrize(
    ("weights", "weight"),
    [(Weights.TIME, 8.0), (Weights.COST, 50.0), (Weights.CALLS, 200.0), (Weights.EQUALLY, 1.0)],
)
def test_what_a_query_counts(weights: Weights, weight: float) -> None:
    assert weight_of(weights, time_ms=8.0, cost=50.0, calls=4) == weight
    assert weights.unit and weights.whole


@pytest.mark.parametrize(
    ("small", "large", "taken"),
    [
        (0.05, 0.02, A),  # a part of the cost that nobody would notice
        (5.0, 0.02, B),
    ],
)
def test_for_what_nobody_would_notice_the_smaller_index_is_taken(
    small: float, large: float, taken: IndexDesign
) -> None:
    wide = parse_index("t0 (a0, b, c)", "public")
    served = {A: {"q1": small}, wide: {"q1": large}}
    picked, _ = pick(problem(served, {A: 10, wide: 40}, {"q1": 1.0}))
    assert [each.option.design for each in picked] == [A if taken is A else wide]


def test_writers_are_a_budget_too() -> None:
    made = problem({A: {"q1": 10.0}}, {A: 1}, {"q1": 5.0}, Budget(extra_writes=0.1))
    dear = Option(A, 1, extra_entries=200.0)
    given = Problem(made.queries, (dear,), made.cost_of, made.budget, made.entries_now)
    assert choose(given).picked == ()
    assert "make writes grow by 20 %" in in_words(choose(given).left_out[0].why)


@pytest.mark.parametrize(
    ("text", "budget"),
    [
        ("100MB", Budget(size_bytes=100 * 1000**2)),
        ("1.5 GiB", Budget(size_bytes=1610612736)),
        ("5", Budget(indexes=5)),
        ("20%", Budget(extra_writes=0.2)),
        ("64MiB", Budget(size_bytes=64 * 1024**2)),
        ("8000 B", Budget(size_bytes=8000)),
        ("100mb,5,20%", Budget(100 * 1000**2, 5, 0.2)),
    ],
)
def test_budgets_as_people_write_them(text: str, budget: Budget) -> None:
    assert parse_budget([text]) == budget


@pytest.mark.parametrize(("text", "share"), [("2%", 0.02), ("0.5", 0.5), ("100%", 1.0)])
def test_shares_as_people_write_them(text: str, share: float) -> None:
    assert parse_share(text, "--least-gain") == share


@pytest.mark.parametrize("text", ["", "5", "200%", "2MB"])
def test_what_is_no_share(text: str) -> None:
    with pytest.raises(WrongUsage, match="is not a share"):
        parse_share(text, "--least-gain")


@pytest.mark.parametrize("text", ["", "much", "-5", "5.5", "10 apples"])
def test_what_is_no_budget(text: str) -> None:
    with pytest.raises(WrongUsage, match="is not a budget"):
        parse_budget([text])


def test_two_indexes_are_merged_where_one_can_serve_both() -> None:
    one = candidates(recorded(18, "10-open-alerts-per-buoy"), TABLES)
    other = candidates(recorded(18, "08-visits-after-alerts"), TABLES)
    words = {c.design.words for c in merged([*one, *other])}
    # Both look for a status, so that column goes to the front of the longer one.
    assert any(w.startswith("alert (status, ") and "INCLUDE" not in w for w in words), words


def test_an_index_that_a_new_one_begins_with_is_superfluous() -> None:
    wide = parse_index("reading (buoy_id, taken_at, value)", "public")
    plan = recorded(18, "17-a-day-of-a-buoy")
    found = made_superfluous([wide], [READING], {"q3": plan})
    assert [r.apply for r in found] == [("DROP INDEX reading_1;",)]
    assert "begins with all its keys" in found[0].reason
    keyed = table("reading", 1e6, 900, "reading_id", indexes=("reading_id",))
    assert made_superfluous([wide], [keyed], {}) == []
    assert made_superfluous([wide], [READING], {}, taken=["reading_1"]) == []
