"""Plans of MariaDB and MySQL as real servers wrote them, in every form, read into one model.

The files are what MariaDB 10.11 and MySQL 9.7 printed for the same statements.
"""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from humble_ledger.core.plans.arithmetic import accounts
from humble_ledger.core.plans.model import JOINS, Node, Operation, Plan, Role
from humble_ledger.engines.mysql.plans.bounds import bounds_apart
from humble_ledger.engines.mysql.plans.format import MariadbPlans, MysqlPlans
from humble_ledger.engines.mysql.plans.notation import noted
from humble_ledger.engines.mysql.plans.reading import plan_of
from humble_ledger.engines.mysql.trace import prices_in
from humble_ledger.engines.registry import plan_formats
from humble_ledger.errors import UnreadableInput

FOLDER = Path(__file__).parents[1] / "fixtures" / "family"
FORMATS = {"mariadb": MariadbPlans(), "mysql": MysqlPlans()}
PLANS = sorted(p for p in FOLDER.rglob("*__*") if "trace" not in p.name)


def read(name: str) -> Plan:
    path = FOLDER / name
    form = FORMATS[path.parent.name]
    return form.read(form.document(path.read_text()))


def words(plan: Plan) -> list[str]:
    """Each step by its operation and what it reads."""
    return [
        f"{node.operation.value} {node.alias or node.relation}"
        + (f" by {node.index}" if node.index else "")
        for node in plan.nodes()
        if node.relation or node.operation not in (Operation.RESULT,)
    ]


def only(plan: Plan, operation: Operation) -> Node:
    (found,) = [node for node in plan.nodes() if node.operation is operation]
    return found


@pytest.mark.parametrize("path", PLANS, ids=lambda p: f"{p.parent.name}-{p.stem}")
def test_every_form_is_read_and_its_figures_hang_together(path: Path) -> None:
    form = FORMATS[path.parent.name]
    plan = form.read(form.document(path.read_text()))
    analyzed = "analyze" in path.name
    nothing = any(word in path.name for word in ("impossible", "no_table", "update_", "delete_"))
    assert plan.measured == analyzed or nothing
    assert [node.no for node in plan.nodes()] == list(range(1, len(list(plan.nodes())) + 1))
    for node in plan.nodes():
        if node.elapsed is not None:
            assert node.loops and node.elapsed.total_ms >= 0
        if node.operation in JOINS:
            roles = [child.role for child in node.children]
            assert Role.OUTER in roles and Role.INNER in roles
    # What is inside a step takes no longer than the step.
    for node in plan.nodes():
        for child in node.children:
            if node.elapsed and child.elapsed and child.role is Role.OUTER:
                whole = node.elapsed.total_ms * (node.loops or 0)
                assert child.elapsed.total_ms * (child.loops or 0) <= whole * 1.02 + 0.05


@pytest.mark.parametrize("path", PLANS, ids=lambda p: f"{p.parent.name}-{p.stem}")
def test_a_saved_plan_is_recognised_whatever_a_client_put_around_it(path: Path) -> None:
    text = path.read_text()
    around = f"some client 1.0\n{text}\n2 rows in set (0.01 sec)\n" if "json" in path.name else text
    for shown in (text, around):
        form = next(form for form in plan_formats() if form.looks_like(shown))
        assert form.engine in FORMATS
        read_again = form.read(form.document(shown))
        assert words(read_again) == words(FORMATS[path.parent.name].read(form.document(text)))


def test_masking_leaves_no_value_of_a_condition() -> None:
    for path in PLANS:
        form = FORMATS[path.parent.name]
        hidden = json.dumps(form.masked(form.document(path.read_text())), default=str)
        for value in ("'held'", "'returned'", "'W1'", "2900", "2002-01-01"):
            assert value not in hidden, (path.name, value)


@pytest.mark.parametrize(
    ("name", "expected"),
    [
        ("mariadb/analyze_json__nested_loop_join.json",
         ["nested_loop ", "nested_loop ", "index_scan s by k_status_created",
          "index_scan c by PRIMARY", "index_scan d by PRIMARY"]),
        ("mysql/explain_analyze_tree__nested_loop_join.txt",
         ["nested_loop ", "nested_loop ", "index_scan s by k_status_created",
          "index_scan c by PRIMARY", "index_scan d by PRIMARY"]),
        ("mysql/explain_json_v1__nested_loop_join.json",
         ["nested_loop ", "nested_loop ", "index_scan s by k_status_created",
          "index_scan c by PRIMARY", "index_scan d by PRIMARY"]),
        ("mysql/explain_analyze_json__nested_loop_join.json",
         ["nested_loop ", "nested_loop ", "index_scan s by k_status_created",
          "index_scan c by PRIMARY", "index_scan d by PRIMARY"]),
        ("mariadb/explain_tab__nested_loop_join.txt",
         ["nested_loop ", "nested_loop ", "index_scan s by k_status_created",
          "index_scan c by PRIMARY", "index_scan d by PRIMARY"]),
        ("mysql/explain_tab__nested_loop_join.txt",
         ["nested_loop ", "nested_loop ", "index_scan s by k_status_created",
          "index_scan c by PRIMARY", "index_scan d by PRIMARY"]),
        ("mariadb/analyze_json__index_merge_union.json",
         ["bitmap_scan shipment", "bitmap_index  by k_courier", "bitmap_index  by k_cover"]),
        ("mariadb/analyze_json__covering_index.json",
         ["index_only_scan shipment by k_cover"]),
    ],
)  # fmt: skip
def test_the_same_statement_has_the_same_steps_in_every_form(
    name: str, expected: list[str]
) -> None:
    assert words(read(name)) == expected


def test_rows_that_were_read_kept_and_thrown_away() -> None:
    for name in (
        "mariadb/analyze_json__hash_join_bnlh.json",
        "mysql/explain_analyze_json__hash_join_bnlh.json",
    ):
        joins = [n for n in read(name).nodes() if n.operation is Operation.HASH_JOIN]
        first = joins[-1]
        assert first.conditions.join == ("(c.name = s.note)",)
        assert any(child.operation is Operation.HASH for child in first.children)
    plan = read("mariadb/analyze_json__hash_join_bnlh.json")
    (scan,) = [n for n in plan.nodes() if n.alias == "s"]
    assert scan.rows_seen == pytest.approx(992, abs=1)
    assert scan.discarded.by_filter == pytest.approx(9496, abs=1)
    never = next(n for n in plan.nodes() if n.alias == "d")
    assert never.never_ran and never.elapsed is None


@pytest.mark.parametrize(
    ("condition", "rows", "unknown"),
    [
        ("lower(letter.subject) = 'x'", 97_812, True),
        ("lower(letter.subject) = 'x'", 10_867, False),
        ("letter.keeper_id = 3", 9_781, True),  # a tenth, for want of statistics
        ("letter.keeper_id = 3", 108, False),
        ("letter.fee > 3.5", 32_604, True),
        ("letter.fee > 3.5", 50_000, False),
        ("letter.subject like 'x%'", 10_867, True),
        ("(letter.fee > 3.5) and (letter.keeper_id = 3)", 3_260, True),
    ],
)
def test_where_the_server_only_guesses_what_passes_it_is_said(
    condition: str, rows: int, unknown: bool
) -> None:
    tree = (
        f"-> Filter: ({condition})  (cost=10350 rows={rows})\n"
        "    -> Table scan on letter  (cost=10350 rows=97812)\n"
    )
    form = FORMATS["mysql"]
    found = form.read(form.document(tree)).root
    assert found.share_unknown == unknown
    assert found.rows_expected == rows  # the server's own figure, whatever a sample tells


SEMI_JOIN = {
    "query_block": {
        "select_id": 1,
        "nested_loop": [
            {"table": {"table_name": "vessel", "access_type": "ALL", "rows": 9004,
                       "filtered": 100}},
            {
                "table": {
                    "table_name": "<subquery2>", "access_type": "eq_ref", "rows": 1,
                    "filtered": 100, "key": "distinct_key", "used_key_parts": ["imo"],
                    "ref": ["func"],
                    "materialized": {
                        "unique": 1,
                        "query_block": {
                            "select_id": 2,
                            "nested_loop": [
                                {"table": {"table_name": "mooring", "access_type": "ALL",
                                           "rows": 117337, "filtered": 100,
                                           "attached_condition": "mooring.fee > 8990"}}
                            ],
                        },
                    },
                }
            },
        ],
    }
}  # fmt: skip
TRACE = {"steps": [{"join_optimization": {"select_id": 1, "steps": [
    {"execution_plan_for_potential_materialization": {"steps": [{"considered_execution_plans": [
        {"plan_prefix": [], "table": "mooring", "rows_for_plan": 117337,
         "cost_for_plan": 26127.4}]}]}},
    {"considered_execution_plans": [
        {"plan_prefix": [], "table": "vessel", "rows_for_plan": 9004, "cost_for_plan": 1828.8,
         "rest_of_plan": [{"plan_prefix": ["vessel"], "table": "mooring", "rows_for_plan": 1.1e9,
                           "cost_for_plan": 2.1e8}]}]},
    {"best_join_order": ["vessel", "<subquery2>"]},
]}}]}  # fmt: skip


def test_what_a_join_puts_into_a_table_of_its_own_is_made_once() -> None:
    prices = prices_in(json.dumps(TRACE))
    document = {"mysql_plan": 1, "engine": "mariadb", "plan": SEMI_JOIN, "prices": prices}
    plan = FORMATS["mariadb"].read(document)
    scan = next(n for n in plan.nodes() if n.relation == "mooring")
    assert scan.cost is not None and scan.cost.total == pytest.approx(26_127.4)
    assert plan.cost_total == pytest.approx(1_828.8 + 26_127.4)
    assert accounts(plan)[scan.no].self_share > 0.9


def test_a_buffer_a_cache_and_sub_queries() -> None:
    buffered = read("mariadb/analyze_json__block_nested_loop_join_buffer.json").root
    assert buffered.operation is Operation.NESTED_LOOP and "buffer" in buffered.label
    # 19 rows met 3,000 each, and 68.35 % of the pairs were wanted.
    assert buffered.rows_seen == pytest.approx(38_960, rel=0.001)

    cached = read("mariadb/analyze_json__correlated_subquery_with_cache.json")
    memo = only(cached, Operation.MEMOIZE)
    assert memo.role is Role.SUBPLAN and memo.subplan_name == "SubPlan 2" and memo.loops == 20_000
    assert memo.children[0].loops == 10
    assert any("SubPlan 2" in text for text in cached.root.conditions.filter)

    stored = read("mariadb/analyze_json__not_in_materialized.json")
    assert any("hashed SubPlan 2" in text for text in stored.root.conditions.filter)
    for name in (
        "analyze_json__semi_join_firstmatch.json",
        "analyze_json__left_join_not_exists.json",
    ):
        join = read(f"mariadb/{name}").root
        assert join.join_type in ("Semi", "Anti")
    for name in ("explain_analyze_tree__left_join_not_exists.txt",
                 "explain_analyze_json__left_join_not_exists.json"):  # fmt: skip
        assert any(n.join_type == "Anti" for n in read(f"mysql/{name}").nodes())


def test_sorts_tell_their_passes_and_keys() -> None:
    sort = only(read("mariadb/analyze_json__filesort_on_disk.json"), Operation.SORT)
    assert sort.sort_keys == ("shipment.note", "shipment.price_c")
    assert sort.memory is not None and sort.memory.spilled_bytes > 0
    assert "309" in sort.memory.method
    assert sort.elapsed is not None and sort.elapsed.total_ms == pytest.approx(1_859, rel=0.01)
    quick = only(read("mariadb/analyze_json__filesort_priority_queue_limit.json"), Operation.SORT)
    assert quick.memory is not None and quick.memory.spilled_bytes == 0
    told = only(read("mysql/explain_analyze_tree__filesort_on_disk.txt"), Operation.SORT)
    assert told.sort_keys == ("shipment.note", "shipment.price_c")


def test_costs_are_the_servers_where_it_tells_them() -> None:
    plan = read("mysql/explain_json_v1__nested_loop_join.json")
    assert plan.cost_total == pytest.approx(318.15)
    assert read("mysql/explain_analyze_json__nested_loop_join.json").cost_total == pytest.approx(
        318.15, rel=0.01
    )
    assert read("mariadb/analyze_json__nested_loop_join.json").cost_total is None
    prices = prices_in((FOLDER / "mariadb/optimizer_trace__join_three.json").read_text())
    (order,) = prices.values()
    assert {each[0] for each in order} == {"s", "c", "d"}
    assert [each[3] for each in order] == sorted(each[3] for each in order)
    assert sum(each[1] for each in order) == pytest.approx(order[-1][3])


@pytest.mark.parametrize(
    ("said", "read_as"),
    [
        ("s.`status` = 'held'", "(s.status = 'held')"),
        ("`feas`.`s`.`status` <=> 'it\\'s'", "(s.status = 'it''s')"),
        ("s.a <=> t.b", "(s.a IS NOT DISTINCT FROM t.b)"),
        ("s.weight_g > (subquery#2)", "(s.weight_g > (SubPlan 2))"),
        ("(s.weight_g > (select #2))", "((s.weight_g > (SubPlan 2)))"),
        ("!<in_optimizer>(c.id,c.id in (subquery#2))", "(NOT (c.id in (SubPlan 2)))"),
        ("trigcond(s.a = 1)", "((s.a = 1))"),
        ("a.t between 1 and 'x and y'", "(a.t >= 1 and a.t <= 'x and y')"),
        ("a.t between <cache>('1990-05-01') and <cache>('1990-05-31')",
         "(a.t >= '1990-05-01' and a.t <= '1990-05-31')"),
        ("a.t not between 1 and 2 and a.b = 3", "((a.t < 1 or a.t > 2) and a.b = 3)"),
        ("a.t between <cache>(cast('x' as date) + interval 1 day) and f(a.b,2) or a.c = 1",
         "(a.t >= (cast('x' as date) + interval 1 day) and a.t <= f(a.b,2) or a.c = 1)"),
        ("year(a.t) between 1 and 2 and (a.b between 3 and 4)",
         "(year(a.t) >= 1 and year(a.t) <= 2 and (a.b >= 3 and a.b <= 4))"),
        ("a.t = <cache>('x' collate utf8mb4_general_ci)",
         "(a.t = 'x' COLLATE \"utf8mb4_general_ci\")"),
        ("timestampdiff(SECOND,a.t,a.b) > 5", "(timestampdiff('SECOND',a.t,a.b) > 5)"),
        # What stands in quotes is a value, whatever it looks like.
        ("a.t = 'www.post.example'", "(a.t = 'www.post.example')"),
        ("a.t = 'timestampdiff(SECOND,x' and a.b between 1 and 2",
         "(a.t = 'timestampdiff(SECOND,x' and a.b >= 1 and a.b <= 2)"),
        ("a.t = '<in_optimizer>(a, ' and a.b = ') or sleep(9) -- '",
         "(a.t = '<in_optimizer>(a, ' and a.b = ') or sleep(9) -- ')"),
        ("`feas`.`a`.`b.c(d` between 1 and 2", '(a."b.c(d" >= 1 and a."b.c(d" <= 2)'),
        ("cast(a.t as date) = '2026-03-14'", "(date(a.t) = '2026-03-14')"),
        ("regexp_like(a.t,'^x')", "(a.t ~ '^x')"),
        ("not(regexp_like(a.t, '^x', 'i'))", "(not(regexp_like(a.t, '^x', 'i')))"),
        ("c.grade <> d.depot_id MOD 3", "(c.grade <> d.depot_id % 3)"),
        ("`order`.`a b` = _utf8mb4'x'", "(order.\"a b\" = 'x')"),
        ("", ""),
    ],
)  # fmt: skip
def test_conditions_in_the_cores_notation(said: str, read_as: str) -> None:
    assert noted(said) == read_as


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('{"query_block": {"select_id": 1, "table": {"table_name": "a"', "breaks off"),
        ('{"query_block": 5}', "not whole"),
        ("-> ", ""),
        ('{"query_plan": {"inputs": [{"operation": 3}]}}', ""),
    ],
)
def test_what_is_torn_is_told(text: str, told: str) -> None:
    form = FORMATS["mariadb"]
    with pytest.raises(UnreadableInput) as caught:
        form.read(form.document(text))
    assert told in str(caught.value)


def test_a_plan_nested_deeper_than_anybody_reads_is_refused_not_followed() -> None:
    block: dict[str, object] = {"select_id": 1, "table": {"table_name": "t", "access_type": "ALL"}}
    for number in range(2_000):
        block = {"select_id": number, "nested_loop": [
            {"table": {"table_name": f"<derived{number}>", "materialized": {"query_block": block}}}
        ]}  # fmt: skip
    with pytest.raises(UnreadableInput):
        FORMATS["mariadb"].read({"query_block": block})


def _filtered(condition: str, share: float) -> dict[str, object]:
    scan = {
        "operation": "Table scan on lot", "table_name": "lot", "access_type": "table",
        "schema_name": "sale", "estimated_rows": 9000.0, "estimated_total_cost": 900.0,
    }  # fmt: skip
    return {
        "operation": f"Filter: {condition}", "access_type": "filter", "condition": condition,
        "inputs": [scan], "estimated_rows": 9000.0 * share, "estimated_total_cost": 900.0,
    }  # fmt: skip


@pytest.mark.parametrize(
    ("condition", "share", "guessed"),
    [
        ("((lot.house = 1) or (lot.seller = 1))", 0.19, True),
        ("(((lot.house = 1) and (lot.kind > 3)) or (lot.seller = 1))", 0.13, True),
        ("((lot.house = 1) or (lot.seller = 1))", 0.15, False),  # by an index or a histogram
        ("(lot.state = 'sold')", 0.2, True),  # one of five
        ("(lot.state = 'sold')", 0.23, False),
        ("((lot.state = 'sold') and (lot.house = 1))", 0.02, True),
    ],
)
def test_guesses_of_any_shape_are_known(condition: str, share: float, guessed: bool) -> None:
    tree = {"query_plan": _filtered(condition, share), "json_schema_version": "2.0"}
    plan = MysqlPlans().read(MysqlPlans().document(json.dumps(tree)))
    assert plan.root.share_unknown == guessed


def test_what_offset_passes_over_is_told() -> None:
    inner = {
        "operation": "Sort: lot.closes, limit input to 20025 row(s) per chunk",
        "inputs": [_filtered("(lot.house = 1)", 1.0)], "estimated_rows": 9000.0,
        "estimated_total_cost": 900.0,
    }  # fmt: skip
    limit = {
        "operation": "Limit/Offset: 25/20000 row(s)", "inputs": [inner], "estimated_rows": 25.0,
        "estimated_total_cost": 900.0,
    }  # fmt: skip
    document = json.dumps({"query_plan": limit, "json_schema_version": "2.0"})
    plan = MysqlPlans().read(MysqlPlans().document(document))
    assert (plan.root.rows_expected, plan.root.rows_skipped) == (25.0, 20000.0)


@pytest.mark.parametrize(
    ("share", "read", "cost"),
    [
        (0.001, 1, 101.0),  # one of a thousand is wanted: a thousand are read for it
        (0.1, 1, 1.01),
        (0.0, 1, 10_100.0),  # none was seen: perhaps all of them are read
        (0.001, 100_000, 9_000.0),  # no LIMIT ends it: what the server says of all of them
    ],
)
def test_the_first_rows_in_an_order_cost_what_is_read_until_they_have_come(
    share: float, read: int, cost: float
) -> None:
    """As MySQL 9.7 told it: one row is read for one that is wanted, by whatever it costs."""
    scan = {
        "operation": "Index scan on lot using lot_opens (reverse)", "table_name": "lot",
        "index_name": "lot_opens", "access_type": "index", "index_access_type": "index_scan",
        "estimated_rows": float(read), "estimated_total_cost": 35.1 if read == 1 else cost,
    }  # fmt: skip
    passing = {
        "operation": "Filter: (lot.seller = 77)", "access_type": "filter", "inputs": [scan],
        "condition": "(lot.seller = 77)", "estimated_rows": read * 0.1,
        "estimated_total_cost": scan["estimated_total_cost"],
    }  # fmt: skip
    limit = {
        "operation": "Limit: 1 row(s)", "access_type": "limit", "inputs": [passing],
        "estimated_rows": read * 0.1, "estimated_total_cost": scan["estimated_total_cost"],
    }  # fmt: skip
    told = {"query_plan": limit, "json_schema_version": "2.0"}
    document = {
        "mysql_plan": 1, "engine": "mysql", "version": "9.7.4", "plan": told,
        "tables": {"lot": ["", "lot"]}, "shares": {"lot": share},
        "wholes": {"lot": [100_000.0, 10_100.0]},
    }  # fmt: skip
    plan = MysqlPlans().read(document)
    assert [n.cost.total for n in plan.nodes() if n.cost] == pytest.approx([cost, cost])


def test_a_condition_made_to_grow_is_left_as_it_was() -> None:
    """What BETWEEN compares is written twice, and twice again where one stands in another."""
    nested = "a.t"
    for _ in range(60):
        nested = f"({nested} between 1 and 2)"
    assert bounds_apart(nested) == nested
    many = " and ".join(f"a.t{n} between {n} and {n + 1}" for n in range(400))
    assert len(bounds_apart(many)) < 2 * len(many)


def test_a_plan_of_a_shape_that_nobody_knows_costs_nothing_known() -> None:
    table = {"table_name": "a", "access_type": "ALL", "rows": 5, "filtered": 100}
    plan = plan_of({"query_block": {"select_id": 1, "new": {"table": table}}}, "mariadb", "")
    assert [node.name for node in plan.nodes()] == ["new"] and plan.cost_total is None
    nothing = {"query_block": {"select_id": 1, "table": {"message": "No tables used"}}}
    assert plan_of(nothing, "mariadb", "").cost_total == 0
