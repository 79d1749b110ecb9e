"""Plans of servers that cannot run here, by the program: read, judged, compared, with ideas."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from tests.program import Program

FIXTURES = Path(__file__).parents[1] / "fixtures" / "elsewhere"
PLUG_IN = """
from humble_ledger.core.plans.model import Node, Operation, Plan
from humble_ledger.errors import UnreadableInput

class PebblePlans:
    engine = "pebble"

    def looks_like(self, text):
        return text.startswith("PEBBLE PLAN")

    def read(self, document, version=""):
        lines = document.splitlines()[1:]
        if not lines:
            raise UnreadableInput("line 2: a step was expected.", "Save it whole.")
        table, rows = lines[0].split()
        root = Node(1, Operation.FULL_SCAN, "Read", relation=table, rows_expected=float(rows))
        return Plan("pebble", version, root, measured=False)

    def masked(self, document):
        return ""
"""


@pytest.fixture
def saved(humble: Program) -> Program:
    """The program beside a copy of the documents."""
    shutil.copytree(FIXTURES, humble.folder / "saved")
    return humble


@pytest.mark.parametrize(
    ("name", "symptom", "cause", "step"),
    [
        ("sqlserver/scan-actual.xml", "selective-full-scan", "indexes-not-known", 1),
        ("sqlserver/key-lookup-actual.xml", "missing-covering-index", "column-not-in-index", 3),
        ("sqlserver/hash-spill-actual.xml", "hash-spills", "memory-too-small", 1),
        ("sqlserver/sort-spill-actual.xml", "sort-spills", "memory-too-small", 1),
        ("sqlserver/conversion-actual.xml", "conversion-hides-index", "type-mismatch", 1),
        ("sqlserver/cross-estimated.xml", "missing-join-condition", "join-condition-missing", 1),
        ("sqlserver/parallel-actual.xml", "uneven-parallel-workers", "uneven-work", 2),
        ("sqlserver/parameters-actual.xml", "row-misestimate", "planned-for-another-value", 2),
        ("sqlserver/apply-actual.xml", "subquery-per-row", "correlated-subquery", 4),
        ("sqlserver/no-statistics-estimated.xml", "selective-full-scan", "leading-wildcard", 3),
        ("oracle/typical-scan.txt", "selective-full-scan", "indexes-not-known", 2),
        ("oracle/conversion.txt", "selective-full-scan", "type-mismatch", 2),
        ("oracle/allstats-index.txt", "index-scan-discards-most", "condition-not-in-index", 2),
        ("oracle/allstats-join.txt", "row-misestimate", "unknown", 4),
        ("oracle/cartesian.txt", "missing-join-condition", "join-condition-missing", 2),
        ("oracle/scalar-subquery.txt", "subquery-per-row", "correlated-subquery", 2),
        ("oracle/spilling-sort.txt", "sort-spills", "memory-too-small", 2),
        ("oracle/hash-one-pass.txt", "hash-spills", "memory-too-small", 3),
        ("oracle/not-exists.txt", "subquery-per-row", "correlated-subquery", 4),
        ("cockroachdb/scan-analyze.txt", "selective-full-scan", "indexes-not-known", 1),
        ("cockroachdb/index-join-analyze.txt", "missing-covering-index", "column-not-in-index", 1),
        ("cockroachdb/hash-join-analyze.txt", "hash-spills", "memory-too-small", 1),
        ("cockroachdb/cross-estimated.txt", "missing-join-condition", "join-condition-missing", 1),
        ("cockroachdb/contention-analyze.txt", "waits-for-writers", "contention", 1),
        ("cockroachdb/missing-stats-estimated.txt", "column-statistics-missing",
         "no-column-statistics", 1),
        ("soql/scan-only.json", "selective-full-scan", "no-index", 1),
        ("soql/wildcard.json", "selective-full-scan", "leading-wildcard", 1),
    ],
)  # fmt: skip
def test_the_likely_cause_is_found_without_a_server(
    saved: Program, name: str, symptom: str, cause: str, step: int
) -> None:
    found = saved.json("diagnose", f"saved/{name}")["symptoms"]
    named = [(s["name"], s["cause"]["name"], s["node"]) for s in found]
    assert (symptom, cause, step) in named


@pytest.mark.parametrize(
    "name",
    ["sqlserver/update-estimated.xml", "sqlserver/batch-estimated.xml", "oracle/basic.txt",
     "oracle/nested-loops.txt", "cockroachdb/lookup-join-estimated.txt",
     "cockroachdb/group-sort-estimated.txt", "cockroachdb/framed-verbose.txt",
     "duckdb/group-measured-2.0.1.json", "duckdb/sort-estimated-1.3.2.json",
     "duckdb/window-estimated-1.3.2.json", "soql/index-wins.json"],
)  # fmt: skip
def test_a_plan_that_is_right_gets_no_symptom(saved: Program, name: str) -> None:
    assert saved.json("diagnose", f"saved/{name}")["symptoms"] == []


def test_the_hottest_step_and_the_servers_words_are_shown(saved: Program) -> None:
    shown = saved.ok("plan", "saved/sqlserver/scan-actual.xml").out
    assert "100 %" in shown and "waits: PAGEIOLATCH_SH 310 ms in 42" in shown
    assert "index on dbo.reading (sensor_id, taken_at), holding value" in shown
    story = saved.ok("plan", "saved/oracle/allstats-join.txt", "--as", "steps").out
    assert "takes 81 % of it" in story
    saved.ok("plan", "saved/cockroachdb/hash-join-analyze.txt", "--as", "figure", "--to", "x.svg")
    assert "hash join" in (saved.folder / "x.svg").read_text()
    focus = saved.ok("plan", "saved/sqlserver/key-lookup-actual.xml", "--focus", "3").out
    assert "NodeId" in focus
    assert "row_lookup" in saved.ok("glossary", "Key Lookup").out


def test_one_of_several_statements_is_named_by_its_number(saved: Program) -> None:
    shown = saved.ok("plan", "saved/sqlserver/batch-estimated.xml").out
    assert "statement 4 of 4 in this document, the costliest" in shown
    other = saved.json("plan", "saved/sqlserver/batch-estimated.xml#3")
    assert other["statement"] == "SELECT * FROM alert" and other["cost_total"] == 0.7
    assert "no statement 9" in saved.fails(2, "plan", "saved/sqlserver/batch-estimated.xml#9")


def test_a_showplan_in_utf_16_as_tools_save_it(saved: Program) -> None:
    text = (FIXTURES / "sqlserver/scan-actual.xml").read_text()
    (saved.folder / "x.sqlplan").write_bytes(b"\xff\xfe" + text.encode("utf-16-le"))
    assert saved.json("plan", "x.sqlplan")["engine"]["name"] == "sqlserver"


def test_ideas_without_predictions_beside_the_servers_own_advice(saved: Program) -> None:
    found = saved.json("propose", "saved/sqlserver/scan-estimated.xml")
    (idea,) = found["ideas"]
    assert idea["keys"] == ["sensor_id", "taken_at"] and idea["step"] == 1
    (advice,) = found["suggested_by_server"]
    assert advice["gain_share"] == 0.964 and advice["included"] == ["value"]
    text = (saved.folder / "saved/sqlserver/scan-estimated.xml").read_text()
    assert saved.json("propose", "-", stdin=text)["ideas"] == found["ideas"]
    shown = saved.ok("propose", "saved/sqlserver/scan-estimated.xml").out
    assert "Suggested by sqlserver itself" in shown and "no server to ask" in shown
    (widened,) = saved.json("propose", "saved/sqlserver/key-lookup-actual.xml")["ideas"]
    assert (widened["widens"], widened["included"]) == ("ix_reading_sensor", ["value", "unit"])
    for name, keys in (
        ("oracle/scalar-subquery.txt", ["sensor_id"]),
        ("oracle/allstats-index.txt", ["sensor_id", "quality"]),
        ("cockroachdb/scan-analyze.txt", ["sensor_id"]),
    ):
        ideas = saved.json("propose", f"saved/{name}")["ideas"]
        assert [idea["keys"] for idea in ideas if idea["keys"]] in ([keys], [])
    script = saved.ok("propose", "saved/cockroachdb/scan-estimated.txt", "--sql").out
    assert script.strip() == "CREATE INDEX reading_sensor_id_idx ON reading (sensor_id);"


def test_two_saved_plans_are_compared_also_of_different_servers(saved: Program) -> None:
    same = saved.json(
        "compare", "saved/sqlserver/scan-estimated.xml", "saved/sqlserver/scan-actual.xml"
    )
    assert same["cost"]["ratio"] == 1.0
    shown = saved.ok(
        "compare", "saved/sqlserver/scan-actual.xml", "saved/oracle/typical-scan.txt"
    ).out
    assert "replaced" in shown
    assert "units of their own, which do not compare" in " ".join(shown.split())
    found = saved.json(
        "compare", "saved/sqlserver/scan-actual.xml", "saved/oracle/typical-scan.txt"
    )
    assert found["cost"]["ratio"] is None


def test_a_list_of_routes_is_read_by_routes(saved: Program) -> None:
    found = saved.json("routes", "saved/soql/index-wins.json")
    costs = [(route["cost_estimated"], route["rows_expected"]) for route in found["routes"]]
    assert costs == [(0.12, 1200.0), (0.9, 1200.0)]
    assert "because unindexed: IsDeleted" in saved.ok("routes", "saved/soql/index-wins.json").out
    assert "saved plan" in saved.fails(2, "routes", "saved/sqlserver/scan-actual.xml")


def test_the_open_document_is_written_and_read_again(saved: Program) -> None:
    first = saved.json("plan", "saved/oracle/allstats-index.txt")
    (saved.folder / "open.json").write_text(json.dumps(first))
    again = saved.json("plan", "open.json")
    assert again == first
    assert saved.json("diagnose", "open.json")["symptoms"][0]["name"] == "index-scan-discards-most"
    first["engine"]["name"] = "somebody's own"
    (saved.folder / "open.json").write_text(json.dumps(first))
    assert "somebody's own" in saved.ok("plan", "open.json").out
    first["root"]["children"][0]["loops"] = "often"
    (saved.folder / "open.json").write_text(json.dumps(first))
    assert "root.children[0].loops" in saved.fails(4, "plan", "open.json")


def test_a_torn_document_is_refused_with_its_place(saved: Program) -> None:
    text = (FIXTURES / "sqlserver/scan-actual.xml").read_text()
    (saved.folder / "torn.xml").write_text(text[:1800])
    assert "line" in saved.fails(4, "plan", "torn.xml")


def test_a_plan_format_of_another_package(saved: Program, tmp_path: Path) -> None:
    site = tmp_path / "site"
    (site / "pebble_plans-1.dist-info").mkdir(parents=True)
    (site / "pebble_plans-1.dist-info" / "METADATA").write_text("Name: pebble-plans\nVersion: 1\n")
    (site / "pebble_plans-1.dist-info" / "entry_points.txt").write_text(
        "[humble_ledger.plan_formats]\npebble = pebble_plans:PebblePlans\n"
    )
    (site / "pebble_plans.py").write_text(PLUG_IN)
    saved.environment["PYTHONPATH"] = str(site)

    def said(*arguments: str) -> tuple[int, str, str]:
        running = saved.start_anew(*arguments)
        out, err = running.communicate()
        return running.returncode, out, err

    (saved.folder / "x.plan").write_text("PEBBLE PLAN\nbuoy 40\n")
    code, out, err = said("plan", "x.plan", "--json")
    assert code == 0, err
    assert json.loads(out)["root"]["relation"] == "buoy"
    assert said("diagnose", "x.plan")[0] == 0
    (saved.folder / "x.plan").write_text("PEBBLE PLAN\nbuoy many rows\n")
    code, _, err = said("plan", "x.plan")
    assert code == 4 and "a plan of pebble" in err and "Traceback" not in err
    (saved.folder / "x.plan").write_text("PEBBLE PLAN\n")
    assert "line 2: a step was expected" in said("plan", "x.plan")[2]


def test_names_that_act_on_terminals_or_end_statements_do_not(saved: Program) -> None:
    document = {
        "kind": "plan",
        "engine": {"name": "x\x1b[31m", "version": "\u202e"},
        "statement": "select \x1b]0;x\x07",
        "remarks": ["\x1b[2Jgone"],
        "advice": [{"relation": "a\x1b[1m", "equal": ["b"], "statement": "DROP \x1b[1m"}],
        "root": {
            "operation": "full_scan", "label": "scan\x1b[31m", "relation": 'r"\x1b; DROP TABLE y',
            "conditions": {"filter": ["(a = 1)"]}, "rows_expected": 5,
            "cost": {"total": 1000000}, "remarks": ["\x1b[5m"],
        },
    }  # fmt: skip
    (saved.folder / "h.json").write_text(json.dumps(document))
    for arguments in (
        ("plan", "h.json"), ("plan", "h.json", "--as", "steps"), ("plan", "h.json", "--focus", "1"),
        ("diagnose", "h.json"), ("propose", "h.json"), ("propose", "h.json", "--sql"),
    ):  # fmt: skip
        shown = saved.ok(*arguments).out
        assert "\x1b" not in shown and "\u202e" not in shown, arguments
    script = saved.ok("propose", "h.json", "--sql").out
    assert 'ON "r""\\x1b; DROP TABLE y" (a);' in script
