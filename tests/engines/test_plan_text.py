"""The text of a plan against the JSON of the same plan, from real servers."""

from __future__ import annotations

from typing import Any

import psycopg
import pytest

from humble_ledger.core.plans.model import Node, Operation, Plan
from humble_ledger.demo.workload import load_workload
from humble_ledger.engines.postgresql.plans.reader import read_plan
from humble_ledger.engines.postgresql.plans.saved import document_of, looks_like_plan
from humble_ledger.engines.postgresql.plans.text import document_of_text
from humble_ledger.errors import UnreadableInput
from tests.conftest import Server
from tests.plan_shapes import SETUP, SHAPES
from tests.record_plans import filled

# Without clocks and caches two runs of a statement on quiet tables say the same.
ESTIMATED = "VERBOSE, SETTINGS"
MEASURED = "ANALYZE, VERBOSE, TIMING OFF, BUFFERS OFF, SUMMARY OFF"
# What is rolled back still makes a table longer, and its scan costlier; chance is chance.
_UNSTEADY = frozenset(("volatile", "sample", "append-in-workers"))


def _shapes(url: str) -> dict[str, tuple[str, str]]:
    """Settings and statement of each shape."""
    workload = {w.name: ("", filled(url, w.sql, w.value_sets[0])) for w in load_workload()}
    further = {n: ("", s) if isinstance(s, str) else s for n, s in SHAPES.items()}
    return {**workload, **further}


def _plan(cursor: psycopg.Cursor[Any], options: str, form: str, shape: tuple[str, str]) -> Plan:
    settings, sql = shape
    cursor.execute("SAVEPOINT shape")
    for setting in filter(None, settings.split("; ")):
        cursor.execute(setting.encode())
    cursor.execute(f"EXPLAIN ({options}, FORMAT {form}) {sql}".encode())
    rows = cursor.fetchall()
    cursor.execute("ROLLBACK TO SAVEPOINT shape")
    if form == "JSON":
        return read_plan(rows[0][0], "")
    return read_plan(document_of("\n".join(str(row[0]) for row in rows)), "")


def _facts(node: Node, steady: bool) -> tuple[object, ...]:
    """What both forms must say alike; without what two runs may differ in when not steady."""
    discarded = node.discarded
    always = (
        node.operation, node.label, node.role, node.schema, node.relation, node.alias, node.index,
        node.subplan_name, node.join_type, node.row_width_bytes, node.conditions, node.sort_keys,
        node.presorted_keys, node.group_keys, node.output, node.parallel_aware, node.never_ran,
    )  # fmt: skip
    if not steady:
        return always
    return (
        *always, node.cost, node.rows_expected, node.rows_seen, node.loops,
        # Nought is printed in JSON and left out of the text.
        discarded.by_filter or 0, discarded.by_join or 0, discarded.by_recheck or 0,
        node.memory.method if node.memory else "",
        (node.processes.planned, node.processes.launched) if node.processes else None,
    )  # fmt: skip


@pytest.mark.parametrize("form", ["TEXT", "YAML", "XML"])
@pytest.mark.parametrize("options", [ESTIMATED, MEASURED], ids=["estimated", "measured"])
def test_every_form_gives_the_same_tree(server: Server, options: str, form: str) -> None:
    shapes = _shapes(server.url)
    if form != "TEXT":  # forms with a grammar of their own: every third shape will do
        shapes = dict(list(shapes.items())[::3])
    with psycopg.connect(server.url) as connection, connection.cursor() as cursor:
        cursor.execute("SET log_min_duration_statement = -1")
        cursor.execute(SETUP.replace("VACUUM ANALYZE", "ANALYZE").encode())
        for name, shape in shapes.items():
            words = set(shape[1].upper().replace("(", " ").split())
            changes = not words.isdisjoint(("UPDATE", "INSERT", "DELETE", "MERGE"))
            ours = _plan(cursor, options, "JSON", shape)
            theirs = _plan(cursor, options, form, shape)
            helped = any(node.processes for node in ours.nodes())
            steady = options == ESTIMATED or not (changes or helped or name in _UNSTEADY)
            assert theirs.engine_settings == ours.engine_settings
            for one, other in zip(ours.nodes(), theirs.nodes(), strict=True):
                assert _facts(other, steady) == _facts(one, steady), name
        connection.rollback()


MEASURED_TEXT = """\
Sort  (cost=9.09..9.10 rows=5 width=12) (actual time=1.250..1.300 rows=4 loops=1)
  Sort Key: b.name
  Sort Method: external merge  Disk: 120kB
  Buffers: shared hit=3 read=2, temp read=15 written=16
  ->  Hash Join  (cost=1.27..9.03 rows=5 width=12) (actual time=0.250..0.500 rows=4.50 loops=2)
        Hash Cond: (b.region_id = r.region_id)
        ->  Seq Scan on sea.buoy b  (cost=0.00..7.00 rows=400 width=16) (never executed)
        ->  Hash  (cost=1.12..1.12 rows=12 width=4) (actual time=0.01..0.01 rows=12 loops=1)
              Buckets: 2048 (originally 1024)  Batches: 2 (originally 1)  Memory Usage: 17kB
              ->  Seq Scan on region r  (cost=0.00..1.12 rows=12 width=4) (actual rows=12 loops=1)
                    Filter: (name ~~ 'a%'::text)
                    Rows Removed by Filter: 3
Planning:
  Buffers: shared hit=20
Planning Time: 0.250 ms
Trigger for constraint buoy_region_id_fkey: time=1.500 calls=3
JIT:
  Functions: 6
  Options: Inlining false, Optimization false, Expressions true, Deforming true
  Timing: Generation 0.5 ms, Inlining 0.0 ms, Optimization 1.0 ms, Emission 2.0 ms, Total 3.5 ms
Execution Time: 1.500 ms
"""


def _framed(text: str) -> str:
    width = max(map(len, text.splitlines()))
    lines = [f" {line:<{width}} +" for line in text.splitlines()]
    heading = ["skerry=> EXPLAIN ANALYZE SELECT 1;", "QUERY PLAN".center(width), "-" * (width + 2)]
    return "\n".join([*heading, *lines, f"({len(lines)} rows)", "", "skerry=> "])


def _boxed(text: str) -> str:
    width = max(map(len, text.splitlines()))
    ruler = "+" + "-" * (width + 2) + "+"
    lines = [f"| {line:<{width}} |" for line in text.splitlines()]
    return "\n".join([ruler, f"| {'QUERY PLAN':<{width}} |", ruler, *lines, ruler])


@pytest.mark.parametrize(
    "text",
    [MEASURED_TEXT, _framed(MEASURED_TEXT), _boxed(MEASURED_TEXT),
     "\n".join("    " + line for line in MEASURED_TEXT.splitlines())],
    ids=["plain", "psql", "boxed", "indented"],
)  # fmt: skip
def test_everything_in_a_measured_text_whatever_is_around_it(text: str) -> None:
    plan = read_plan(document_of_text(text), "")
    sort, join, never, hash_, region = plan.nodes()
    assert (plan.planning_ms, plan.execution_ms, plan.compile_ms) == (0.25, 1.5, 3.5)
    assert plan.triggers[0].time_ms == 1.5
    assert sort.memory is not None and sort.memory.spilled_bytes == 120 * 1024
    assert sort.pages is not None and (sort.pages.read, sort.pages.temp_written) == (2, 16)
    assert (join.rows_seen, join.loops) == (4.5, 2)
    assert never.never_ran and (never.schema, never.alias) == ("sea", "b")
    assert hash_.memory is not None and (hash_.memory.batches, hash_.memory.planned_batches) == (
        2,
        1,
    )
    assert region.discarded.by_filter == 3
    assert region.conditions.filter == ("(name ~~ 'a%'::text)",)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "no plan"),
        ("hello\nworld", "no plan"),
        (MEASURED_TEXT.replace("        ->  Hash ", "Planning ->"), "Line 8"),
        (MEASURED_TEXT + "what is this\n", "Line 22"),
    ],
)
def test_what_is_no_plan_is_told_with_its_line(text: str, words: str) -> None:
    with pytest.raises(UnreadableInput, match=words):
        document_of_text(text)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('[{"Plan": {"Node Type": "Seq', "line 1, column"),
        ('{\n"Plan":\n  {"Node Type" "x"}}', "line 3"),
        ("<explain><Query><Plan></explain>", "XML"),
        ('- Plan:\n    Node Type: "x\n  y: [', "YAML"),
        ('{"Plan": {"Node Type": "Sort", "Plans": 7}}', '"Plans" of step 1 is 7, not a list'),
        ('{"Plan": []}', 'no object with a "Plan"'),
        ('{"Plan": {"Node Type": "Sort", "Actual Rows": "many", "Actual Loops": 1}}', "many"),
        ("[" * 5000, "nest too deeply"),
    ],
)
def test_what_is_broken_off_or_foreign_is_told(text: str, words: str) -> None:
    with pytest.raises(UnreadableInput, match=words):
        read_plan(document_of(text), "")


def test_a_step_of_the_future_is_read_as_other() -> None:
    text = "Quantum Scan on reading  (cost=0.00..1.00 rows=7 width=4)\n  Qubits: 5\n"
    (node,) = read_plan(document_of(text), "").nodes()
    assert (node.operation, node.label) == (Operation.OTHER, "Quantum Scan")
    assert (node.rows_expected, node.details["Qubits"]) == (7, 5)


@pytest.mark.parametrize(
    ("text", "plan"),
    [
        (MEASURED_TEXT, True), ("[{}]", True), ("<explain>", True),
        ("- Plan:\n  Node Type: x", True),
        ("SELECT a -> 'b' FROM t WHERE cost = 1", False), ("select 1 -- (cost is high)", False),
    ],
)  # fmt: skip
def test_plans_are_told_from_statements(text: str, plan: bool) -> None:
    assert looks_like_plan(text) is plan
