"""Every figure of the handmade documents, against what they say and against other arithmetic."""

from __future__ import annotations

import json
import re
from xml.etree import ElementTree

import pytest

from humble_ledger.core.plans.arithmetic import accounts
from humble_ledger.core.plans.model import Plan
from tests.engines.elsewhere.reading import DOCUMENTS, FOLDER, NAMES, form_of, plan_in, plans_in

# Of each step: operation, table, index, rows expected and seen in one loop, loops, own
# milliseconds, own cost, rows thrown away in one loop. Reckoned by hand from the documents.
STEPS: dict[str, tuple[tuple[object, ...], ...]] = {
    "sqlserver/apply-actual.xml": (
        ("result", "", "", 1200, 1200, 1, 5460 - 5450, 1, None),
        ("nested_loop", "", "", 1200, 1200, 1, 5450 - 2 - 5400, 599 - 1 - 590, None),
        ("full_scan", "sensor", "", 1200, 1200, 1, 2, 1, None),
        ("aggregate", "", "", 1, 1, 1200, 5400 - 5300, 590 - 580, None),
        ("full_scan", "alert", "", 100, 60000 / 1200, 1200, 5300, 580, (72e6 - 60000) / 1200),
    ),
    "sqlserver/batch-mode-actual.xml": (
        ("aggregate", "", "", 30, 5, 1, 30, 15, None),
        ("full_scan", "reading", "", 2e6, 2e6, 1, 70, 5, None),
    ),
    "sqlserver/conversion-actual.xml": (
        ("index_only_scan", "sensor", "ix_sensor_code", 40, 1, 1, 260, 9.2, 899999),
    ),
    "sqlserver/cross-estimated.xml": (
        ("nested_loop", "", "", 1440000, None, None, None, 80 - 1 - 60, None),
        ("full_scan", "sensor", "", 1200, None, None, None, 1, None),
        ("materialize", "", "", 1200, None, None, None, 59, None),
        ("full_scan", "buoy", "", 1200, None, None, None, 1, None),
    ),
    "sqlserver/hash-spill-actual.xml": (
        ("hash_join", "", "", 1000, 900000, 1, 2600 - 4 - 600, 40 - 1.5 - 24, None),
        ("full_scan", "sensor", "", 1200, 1200, 1, 4, 1.5, None),
        ("full_scan", "reading", "", 1000, 900000, 1, 600, 24, 1100000),
    ),
    "sqlserver/key-lookup-actual.xml": (
        ("nested_loop", "", "", 1500, 4000, 1, 10, 0.1, None),
        ("index_only_scan", "reading", "ix_reading_sensor", 1500, 4000, 1, 10, 0.5, None),
        ("row_lookup", "reading", "pk_reading", 1, 1, 4000, 110, 5.4, None),
    ),
    "sqlserver/no-statistics-estimated.xml": (
        ("merge_join", "", "", 500, None, None, None, 1, None),
        ("full_scan", "sensor", "", 1200, None, None, None, 1, None),
        ("index_only_scan", "alert", "ix_alert_sensor", 500, None, None, None, 6, None),
    ),
    "sqlserver/old-actual.xml": (
        ("aggregate", "", "", 1, 1, 1, None, 0.5, None),
        ("index_only_scan", "reading", "ix_reading_sensor", 900, 4000, 1, None, 2.5, None),
    ),
    "sqlserver/parallel-actual.xml": (
        ("gather", "", "", 900000, 900000, 1, 50, 6, None),
        ("full_scan", "reading", "", 900000, 225000, 4, 900, 24, 1100000 / 4),
    ),
    "sqlserver/parameters-actual.xml": (
        ("nested_loop", "", "", 20, 48000, 1, 30, 0.1, None),
        ("index_only_scan", "alert", "ix_alert_status", 20, 48000, 1, 30, 0.1, None),
        ("index_scan", "sensor", "pk_sensor", 1, 1, 48000, 400, 2.8, None),
    ),
    "sqlserver/scan-actual.xml": (
        ("full_scan", "reading", "", 120, 118, 1, 840, 24.5, 2000000 - 118),
    ),
    "sqlserver/scan-estimated.xml": (
        ("full_scan", "reading", "", 120, None, None, None, 24.5, None),
    ),
    "sqlserver/sort-spill-actual.xml": (
        ("sort", "", "", 2e6, 2e6, 1, 3600, 276, None),
        ("full_scan", "reading", "", 2e6, 2e6, 1, 500, 24, None),
    ),
    "sqlserver/top-sort-actual.xml": (
        ("sort", "", "", 10, 10, 1, 180, 6, None),
        ("full_scan", "reading", "", 2e6, 2e6, 1, 520, 24, None),
    ),
    "sqlserver/update-estimated.xml": (
        ("modify", "alert", "", 5, None, None, None, 0.1, None),
        ("append", "", "", 5, None, None, None, 0.2, None),
        ("index_scan", "alert", "pk_alert", 2, None, None, None, 0.3, None),
        ("other", "", "", 3, None, None, None, 0.3, None),
        ("values", "", "", 3, None, None, None, 0.1, None),
    ),
    "oracle/adaptive.txt": (
        ("result", "", "", None, None, None, None, 90, None),
        ("hash_join", "", "", 90, None, None, None, 60009, None),
        ("full_scan", "sensor", "", 9, None, None, None, 9, None),
        ("full_scan", "alert", "", 60000, None, None, None, 60000, None),
    ),
    "oracle/allstats-index.txt": (
        ("result", "", "", None, 40, 1, 0, None, None),
        ("index_scan", "reading", "reading_sensor", 35, 40, 1, 880, None, 11960),
        ("bitmap_index", "", "reading_sensor", 12000, 12000, 1, 20, None, None),
    ),
    "oracle/allstats-join.txt": (
        ("result", "", "", None, 900, 1, 0, None, None),
        ("hash_join", "", "", 1000, 900, 1, 3100 - 10 - 2500, None, None),
        ("full_scan", "sensor", "", 1200, 1200, 1, 10, None, None),
        ("full_scan", "reading", "", 1000, 900000, 1, 2500, None, None),
    ),
    "oracle/cartesian.txt": (
        ("result", "", "", 1440000, None, None, None, 0, None),
        ("merge_join", "", "", 1440000, None, None, None, 0, None),
        ("full_scan", "buoy", "", 1200, None, None, None, 5, None),
        ("materialize", "", "", 1200, None, None, None, 8988, None),
        ("full_scan", "sensor", "", 1200, None, None, None, 7, None),
    ),
    "oracle/conversion.txt": (
        ("result", "", "", None, None, None, None, 0, None),
        ("full_scan", "sensor", "", 9, None, None, None, 812, None),
    ),
    "oracle/hash-one-pass.txt": (
        ("result", "", "", None, 30, 1, 0, None, None),
        ("aggregate", "", "", 30, 30, 1, 300, None, None),
        ("hash_join", "", "", 900000, 900000, 1, 2200, None, None),
        ("full_scan", "reading", "", 2e6, 2e6, 1, 800, None, None),
        ("full_scan", "reading_note", "", 900000, 900000, 1, 700, None, None),
    ),
    "oracle/nested-loops.txt": (
        ("result", "", "", None, None, None, None, 0, None),
        ("aggregate", "", "", 1, None, None, None, 0, None),
        ("nested_loop", "", "", 600, None, None, None, 1805 - 605 - 1200, None),
        ("nested_loop", "", "", 600, None, None, None, 605 - 5 - 600, None),
        ("full_scan", "alert", "", 600, None, None, None, 5, None),
        ("index_only_scan", "", "sensor_pk", 1, None, None, None, 600, None),
        ("row_lookup", "sensor", "", 1, None, None, None, 1200, None),
    ),
    "oracle/not-exists.txt": (
        ("result", "", "", 1, None, None, None, 0, None),
        ("result", "", "", None, None, None, None, 60012 - 7 - 60000, None),
        ("full_scan", "sensor", "", 1200, None, None, None, 7, None),
        ("full_scan", "alert", "", 2, None, None, None, 1200 * 50, None),
    ),
    "oracle/parallel.txt": (
        ("result", "", "", 1, None, None, None, 0, None),
        ("aggregate", "", "", 1, None, None, None, 0, None),
        ("gather", "", "", None, None, None, None, 0, None),
        ("other", "", "", 1, None, None, None, 0, None),
        ("aggregate", "", "", 1, None, None, None, 0, None),
        ("other", "", "", 2e6, None, None, None, 0, None),
        ("full_scan", "reading", "", 2e6, None, None, None, 1500, None),
    ),
    "oracle/scalar-subquery.txt": (
        ("result", "", "", None, 1200, 1, 0, None, None),
        ("aggregate", "", "", 1, 1, 1200, 5390 - 5300, None, None),
        ("full_scan", "alert", "", 50, 50, 1200, 5300, None, None),
        ("full_scan", "sensor", "", 1200, 1200, 1, 10, None, None),
    ),
    "oracle/spilling-sort.txt": (
        ("result", "", "", None, 2e6, 1, 0, None, None),
        ("sort", "", "", 2e6, 2e6, 1, 7200 - 1100, None, None),
        ("full_scan", "reading", "", 2e6, 2e6, 1, 1100, None, None),
    ),
    "oracle/view-rows.csv": (
        ("result", "", "", None, 40, 1, 0, 0, None),
        ("sort", "", "", 40, 40, 1, 10, 880 - 860, None),
        ("index_scan", "reading", "reading_sensor", 40, 40, 1, 870, 860 - 52, 11960),
        ("bitmap_index", "", "reading_sensor", 12000, 12000, 1, 20, 52, None),
    ),
    "cockroachdb/cross-estimated.txt": (
        ("nested_loop", "", "", 1440000, None, None, None, None, None),
        ("full_scan", "buoy", "", 1200, None, None, None, None, None),
        ("full_scan", "sensor", "", 1200, None, None, None, None, None),
    ),
    "cockroachdb/framed-verbose.txt": (
        ("limit", "", "", 10, None, None, None, 10, None),
        ("full_scan", "reading", "", 10, None, None, None, 10, None),
    ),
    "cockroachdb/group-sort-estimated.txt": (
        ("sort", "", "", 5, None, None, None, 12, None),
        ("aggregate", "", "", 12, None, None, None, 60000, None),
        ("merge_join", "", "", 60000, None, None, None, 61200, None),
        ("full_scan", "sensor", "", 1200, None, None, None, 1200, None),
        ("index_only_scan", "alert", "alert_sensor_idx", 60000, None, None, None, 60000, None),
    ),
    "cockroachdb/hash-join-analyze.txt": (
        ("hash_join", "", "", 1000, 900000, 1, 1500, None, None),
        ("full_scan", "reading", "", 1000, 900000, 1, 900 + 60, None, 1100000),
        ("full_scan", "sensor", "", 1200, 1200, 1, 3, None, None),
    ),
    "cockroachdb/index-join-analyze.txt": (
        ("row_lookup", "reading", "reading_pkey", 1500, 4000, 1, 80, None, None),
        ("index_only_scan", "reading", "reading_sensor_idx", 1500, 4000, 1, 9, None, None),
    ),
    "cockroachdb/missing-stats-estimated.txt": (
        ("full_scan", "alert", "", 333, None, None, None, 1000, None),
    ),
    "cockroachdb/scan-analyze.txt": (
        ("full_scan", "reading", "", 12000, 118, 1, 40 + 1100 + 100, None, 1999882),
    ),
    "cockroachdb/subquery-estimated.txt": (
        ("result", "", "", None, None, None, None, 400, None),
        ("index_scan", "reading", "reading_pkey", 400, None, None, None, 1200, None),
        ("subquery", "", "", None, None, None, None, 1, None),
        ("aggregate", "", "", 1, None, None, None, 4000, None),
        ("index_only_scan", "reading", "reading_sensor_idx", 4000, None, None, None, 4000, None),
    ),
    "cockroachdb/union-estimated.txt": (
        ("append", "", "", 700, None, None, None, 700, None),
        ("index_only_scan", "alert", "alert_status_idx", 600, None, None, None, 600, None),
        ("distinct", "", "", 100, None, None, None, 100, None),
        ("index_only_scan", "reading", "reading_sensor_idx", 100, None, None, None, 100, None),
    ),
    "soql/cost-as-text.json": (
        ("full_scan", "Alert__c", "", 1250, None, None, None, 0.75, None),
    ),
    "cockroachdb/apply-join-estimated.txt": (
        ("nested_loop", "", "", 1200, None, None, None, 1200, None),
        ("full_scan", "sensor", "", 1200, None, None, None, 1200, None),
    ),
    "cockroachdb/contention-analyze.txt": (
        ("index_scan", "alert", "alert_pkey", 1, 1, 1, 65000, None, None),
    ),
    "cockroachdb/insert-analyze.txt": (
        ("modify", "alert", "", None, 2, 1, 0, None, None),
    ),
    "cockroachdb/lookup-join-estimated.txt": (
        ("nested_loop", "sensor", "sensor_pkey", 600, None, None, None, 600, None),
        ("index_only_scan", "alert", "alert_status_idx", 600, None, None, None, 600, None),
    ),
    "cockroachdb/scan-estimated.txt": (
        ("full_scan", "reading", "", 118, None, None, None, 2000000, None),
    ),
    "cockroachdb/unknown-operator-estimated.txt": (
        ("other", "", "", None, None, None, None, None, None),
        ("values", "", "", None, None, None, None, None, None),
    ),
    "cockroachdb/update-estimated.txt": (
        ("modify", "alert", "", None, None, None, None, 0, None),
        ("result", "", "", None, None, None, None, 600, None),
        ("index_only_scan", "alert", "alert_status_idx", 600, None, None, None, 600, None),
    ),
    "oracle/basic-peeked.txt": (
        ("result", "", "", None, None, None, None, None, None),
        ("index_scan", "reading", "reading_sensor", None, None, None, None, None, None),
        ("bitmap_index", "", "reading_sensor", None, None, None, None, None, None),
    ),
    "oracle/basic.txt": (
        ("result", "", "", None, None, None, None, None, None),
        ("full_scan", "reading", "", None, None, None, None, None, None),
    ),
    "oracle/partitions.txt": (
        ("result", "", "", 1, None, None, None, 0, None),
        ("aggregate", "", "", 1, None, None, None, 0, None),
        ("append", "", "", 30000, None, None, None, 0, None),
        ("full_scan", "reading_by_month", "", 30000, None, None, None, 402, None),
    ),
    "oracle/plan-table.csv": (
        ("result", "", "", 120, None, None, None, 0, None),
        ("full_scan", "reading", "", 120, None, None, None, 5471, None),
    ),
    "oracle/two-cursors.txt": (
        ("result", "", "", 1, None, None, None, 0, None),
        ("full_scan", "sensor", "", 1200, None, None, None, 7, None),
    ),
    "oracle/typical-scan.txt": (
        ("result", "", "", None, None, None, None, 0, None),
        ("full_scan", "reading", "", 120, None, None, None, 5471, None),
    ),
    "oracle/view-rows.json": (
        ("result", "", "", None, 40, 1, 0, 0, None),
        ("sort", "", "", 40, 40, 1, 10, 20, None),
        ("index_scan", "reading", "reading_sensor", 40, 40, 1, 870, 808, 11960),
        ("bitmap_index", "", "reading_sensor", 12000, 12000, 1, 20, 52, None),
    ),
    "soql/bare-list.json": (
        ("index_scan", "Sensor__c", "Kind__c", 3, None, None, None, 0.33, None),
    ),
    "soql/composite-fields.json": (
        ("index_scan", "Alert__c", "Status__c, Raised_At__c", 40, None, None, None, 0.2, None),
    ),
    "soql/empty-notes.json": (
        ("index_scan", "Buoy__c", "", 0, None, None, None, 0.01, None),
    ),
    "soql/index-wins.json": (
        ("index_scan", "Reading__c", "Sensor__c", 1200, None, None, None, 0.12, None),
    ),
    "soql/large.json": (
        ("index_scan", "Reading__c", "Field0__c", 100, None, None, None, 0.5, None),
    ),
    "soql/negation.json": (
        ("full_scan", "Alert__c", "", 58000, None, None, None, 1.1, None),
    ),
    "soql/no-cardinality.json": (
        ("full_scan", "Alert__c", "", None, None, None, None, 1, None),
    ),
    "soql/not-selective.json": (
        ("full_scan", "Reading__c", "", 90000, None, None, None, 1.2, None),
    ),
    "soql/null-filter.json": (
        ("full_scan", "Alert__c", "", 100, None, None, None, 1, None),
    ),
    "soql/other.json": (
        ("other", "Reading__c", "Id", 1, None, None, None, 0, None),
    ),
    "soql/scan-only.json": (
        ("full_scan", "Reading__c", "", 90000, None, None, None, 1.8, None),
    ),
    "soql/sharing.json": (
        ("index_scan", "Reading__c", "", 30000, None, None, None, 0.6, None),
    ),
    "soql/two-indexes.json": (
        ("index_scan", "Reading__c", "Taken_At__c", 900, None, None, None, 0.1, None),
    ),
    "soql/unknown-kind.json": (
        ("other", "Reading__c", "Novel__c", 10, None, None, None, 0.3, None),
    ),
    "soql/wildcard.json": (
        ("full_scan", "Alert__c", "", 600, None, None, None, 1.4, None),
    ),
    "sqlserver/batch-estimated.xml": (
        ("full_scan", "buoy", "", 10, None, None, None, 0.1, None),
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", STEPS)
def test_each_step_has_the_figures_of_its_document(name: str) -> None:
    plan = plan_in(name)
    known = accounts(plan)
    found = [
        (
            n.operation.value, n.relation, n.index, n.rows_expected, n.rows_seen, n.loops,
            known[n.no].self_ms, known[n.no].self_cost if n.cost else None, n.discarded.by_filter,
        )
        for n in plan.nodes()
    ]  # fmt: skip
    assert len(found) == len(STEPS[name])
    for one, other in zip(found, STEPS[name], strict=True):
        assert one[:3] == other[:3]
        cost = one[7] if other[7] is not None else None
        figures = (*one[3:7], cost, one[8])
        assert figures == pytest.approx(other[3:], abs=1e-6), one[:3]


def test_every_document_is_recognised_by_its_own_format() -> None:
    for path in DOCUMENTS:
        assert form_of(path.read_text()).engine == path.parent.name, path
    kinds = [name.split("/")[0] for name in NAMES]
    for engine in ("sqlserver", "oracle", "cockroachdb", "duckdb", "soql"):
        assert kinds.count(engine) >= 15, engine


@pytest.mark.parametrize("name", [n for n in NAMES if n.startswith("sqlserver/")])
def test_showplans_against_times_reckoned_from_the_xml_alone(name: str) -> None:
    """Elapsed of each step less that of the steps below; a batch's times are its own."""
    root = ElementTree.fromstring((FOLDER / name).read_text().split("?>", 1)[1])
    relop = next(e.tag for e in root.iter() if e.tag.endswith("RelOp"))
    elapsed: dict[str, float] = {}
    batch = "Batch" in {e.get("ActualExecutionMode") for e in root.iter()}
    for step in root.iter(relop):
        told = step.findall("./{*}RunTimeInformation/{*}RunTimeCountersPerThread")
        times = [float(e.get("ActualElapsedms", "nan")) for e in told]
        if times and times[0] == times[0]:
            elapsed[step.get("NodeId", "")] = max(times)
    if not elapsed or batch:
        return
    own = dict(elapsed)
    for step in root.iter(relop):
        inner = [e for kind in step for e in kind.findall("{*}RelOp")]
        own[step.get("NodeId", "")] -= sum(elapsed[e.get("NodeId", "")] for e in inner)
    plan = plan_in(name)
    known = accounts(plan)
    found = {str(n.details["NodeId"]): known[n.no].self_ms for n in plan.nodes()}
    assert found == pytest.approx({no: max(0.0, ms) for no, ms in own.items()})


@pytest.mark.parametrize("name", [n for n in NAMES if n.startswith("oracle/allstats")])
def test_displays_against_times_reckoned_from_the_text_alone(name: str) -> None:
    """A-Time of the first line is what all steps took by themselves."""
    text = (FOLDER / name).read_text()
    times = [60 * int(m) + float(s) for m, s in re.findall(r"00:(\d\d):(\d\d\.\d\d)", text)]
    known = accounts(plan_in(name))
    assert sum(a.self_ms or 0.0 for a in known.values()) == pytest.approx(1000 * times[0])


@pytest.mark.parametrize("name", [n for n in NAMES if "measured" in n])
def test_profiles_against_the_sum_of_their_operators(name: str) -> None:
    text = (FOLDER / name).read_text()
    json.loads(text)
    times = re.findall(r'"(?:operator_timing|timing)": ([\d.e-]+)', text)
    wrapped = sum(float(t) for t in times)
    own = sum(a.self_ms or 0.0 for a in accounts(plan_in(name)).values())
    # The wrappers around a plan are no steps of it, and take next to nothing.
    assert own == pytest.approx(1000 * wrapped, rel=0.02, abs=0.002)


def test_costs_add_up_to_the_statements() -> None:
    for name in (n for n in NAMES if n.startswith(("sqlserver/", "oracle/"))):
        for saved in plans_in(name):
            own = sum(a.self_cost for a in accounts(saved.plan).values())
            assert own == pytest.approx(saved.plan.cost_total or 0.0), name


def test_a_cost_that_nothing_tells_is_unknown() -> None:
    for name in ("oracle/basic.txt", "cockroachdb/unknown-operator-estimated.txt"):
        assert plan_in(name).cost_total is None


def words(plan: Plan) -> str:
    found = [*plan.remarks, *(text for n in plan.nodes() for text in n.remarks)]
    return "\n".join([*found, *(c for n in plan.nodes() for c in n.conditions.all())])


@pytest.mark.parametrize(
    ("name", "said"),
    [
        ("sqlserver/scan-actual.xml", "waits: PAGEIOLATCH_SH 310 ms in 42"),
        ("sqlserver/hash-spill-actual.xml", "memory: 2,048 KiB granted, 2,040 KiB used"),
        ("sqlserver/hash-spill-actual.xml", "spilled (level 2), 1 threads"),
        ("sqlserver/hash-spill-actual.xml", "(s.sensor_id = r.sensor_id)"),
        ("sqlserver/conversion-actual.xml", "(CAST(s.code AS varchar) = $"),
        ("sqlserver/conversion-actual.xml", "conversion affects the plan (Seek Plan)"),
        ("sqlserver/parameters-actual.xml", "@status: planned for 'open', run with 'closed'"),
        ("sqlserver/parallel-actual.xml", "skewed: one of 4 threads had 91.1 % of the rows"),
        ("sqlserver/no-statistics-estimated.xml", "no statistics of a.note"),
        ("sqlserver/top-sort-actual.xml", "204,800 KiB granted, 512 KiB used"),
        ("sqlserver/top-sort-actual.xml", "not parallel: MaxDOPSetToOne"),
        ("sqlserver/cross-estimated.xml", "no join predicate"),
        ("sqlserver/update-estimated.xml", "(alert.alert_id >= 10)"),
        ("oracle/allstats-join.txt", "dynamic statistics used"),
        ("oracle/typical-scan.txt", "(r.sensor_id = 77 AND r.taken_at >= '2026-03-01')"),
        ("oracle/conversion.txt", "(CAST(code AS numeric) = 4711)"),
        ("oracle/partitions.txt", "partitions 3 to 7"),
        ("oracle/parallel.txt", "Degree of Parallelism is 4 because of hint"),
        ("oracle/hash-one-pass.txt", "once through temporary space"),
        ("oracle/basic-peeked.txt", "planned for :B1 (NUMBER): 4711"),
        ("cockroachdb/scan-analyze.txt", "rows decoded from KV: 2,000,000"),
        ("cockroachdb/contention-analyze.txt", "waited for others' writes: 1m4.9s"),
        ("cockroachdb/framed-verbose.txt", "stops when enough rows have come"),
        ("cockroachdb/missing-stats-estimated.txt", "no statistics of the table"),
        ("duckdb/group-measured-2.0.1.json", "(reading.sensor_id = sensor.sensor_id)"),
        ("soql/scan-only.json", "because unindexed: Quality__c"),
    ],
)
def test_what_a_server_says_is_kept_and_shown(name: str, said: str) -> None:
    assert said in words(plan_in(name))


def test_memory_and_what_spilled() -> None:
    spilled = {
        "sqlserver/hash-spill-actual.xml": (5120 * 8192, 2040 * 1024),
        "sqlserver/sort-spill-actual.xml": (9000 * 8192, 10240 * 1024),
        "oracle/spilling-sort.txt": (28 * 1024**2, 10 * 1024**2),
        "oracle/hash-one-pass.txt": (40960 * 1024, 6 * 1024**2),
        "cockroachdb/hash-join-analyze.txt": (40 * 1024**2, 64 * 1024**2),
    }
    for name, expected in spilled.items():
        (memory,) = [n.memory for n in plan_in(name).nodes() if n.memory and n.memory.spilled_bytes]
        assert (memory.spilled_bytes, memory.used_bytes) == expected, name


def test_several_statements_of_one_document() -> None:
    batch = plans_in("sqlserver/batch-estimated.xml")
    assert [s.plan.cost_total for s in batch] == [0.1, 0.001, 0.7, 24.0]
    assert batch[3].statement == "SELECT * FROM reading"
    assert [s.statement for s in plans_in("oracle/two-cursors.txt")] == [
        "select * from sensor", "select * from alert",
    ]  # fmt: skip


def test_a_statement_stands_above_a_plan_in_several_ways() -> None:
    (found,) = plans_in("oracle/basic-peeked.txt")
    assert found.statement == "select value from reading where sensor_id = :b1"


@pytest.mark.parametrize("name", NAMES)
def test_a_masked_document_is_the_same_plan_without_its_values(name: str) -> None:
    text = (FOLDER / name).read_text()
    form = form_of(text)
    document = form.document(text)
    masked = form.masked(document)
    shown = json.dumps(masked)
    for value in ("4711", "2026-03", "zanzibar", "drift", "'open'", "'wave'", "sensor_id = 77"):
        assert value not in shown, value
    one, other = form.plans_in(document)[0].plan, form.plans_in(masked)[0].plan
    assert [(n.operation, n.relation, n.index) for n in one.nodes()] == [
        (n.operation, n.relation, n.index) for n in other.nodes()
    ]


def test_what_the_server_suggests_itself() -> None:
    (one,) = plan_in("sqlserver/scan-estimated.xml").advice
    assert (one.equal, one.ranges, one.included) == (("sensor_id",), ("taken_at",), ("value",))
    assert one.gain_share == 0.964
    (other,) = plan_in("cockroachdb/scan-estimated.txt").advice
    assert other.statement.startswith("CREATE INDEX ON feas.public.reading")
    assert (other.equal, other.included) == (("sensor_id",), ("taken_at", "value"))


def test_what_nobody_here_knows_is_kept() -> None:
    plan = plan_in("sqlserver/update-estimated.xml")
    assert any(n.label == "Quantum Fold" for n in plan.nodes())
    assert "novelty" in plan_in("soql/unknown-kind.json").root.details
    plan = plan_in("cockroachdb/unknown-operator-estimated.txt")
    assert plan.root.details["novelty"] == "very high"
