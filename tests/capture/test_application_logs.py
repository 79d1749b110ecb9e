"""What applications record, and what frameworks write into comments: runs with their places."""

from __future__ import annotations

import gzip
import json
from typing import Any

import pytest

from humble_ledger.capture.application import APPLICATION_LOGS
from humble_ledger.capture.application.told_rows import as_text
from humble_ledger.capture.log_rows import clean
from humble_ledger.core.statements.placeholders import numbered, values_in_order
from humble_ledger.core.symptoms.in_workload.repetition import repetition_symptoms
from humble_ledger.core.workload.gathering import Gathering
from humble_ledger.core.workload.origins import Origin, OriginWatch, Sender, Sent, by_code, tagged
from humble_ledger.ledger.repository import Ledger
from tests.program import Program

BEGAN = 1_790_000_000.0


def run(**keys: Any) -> dict[str, Any]:
    return {"at": BEGAN, "ms": 2.0, "statement": "SELECT 1", **keys}


@pytest.fixture
def ledger(humble: Program) -> Program:
    Ledger(humble.folder / "humble.ledger", create=True).close()
    return humble


def captured(humble: Program, *entries: dict[str, Any], name: str = "app.jsonl") -> Any:
    text = "".join(json.dumps(each) + "\n" for each in entries)
    (humble.folder / name).write_text(text)
    return humble.json("capture", "log", name)


@pytest.mark.parametrize(
    ("sql", "style", "shown", "keys"),
    [
        ("a = ? AND b >? AND c='?'", "qmark", "a = $1 AND b >$2 AND c='?'", (0, 1)),
        ("a IN (?,?) AND b=-?", "qmark", "a IN ($1,$2) AND b=-$3", (0, 1, 2)),
        ("a = %s AND b LIKE 'x%%'", "format", "a = $1 AND b LIKE 'x%'", (0,)),
        ("%(a)s, %(b)s, %(a)s", "pyformat", "$1, $2, $1", ("a", "b")),
        ("%s = %s", "pyformat", "$1 = $2", (0, 1)),
        (":a::int, :b, ':c'", "named", "$1::int, $2, ':c'", ("a", "b")),
        ("a -- ?\n= ?", "qmark", "a -- ?\n= $1", (0,)),
        ("doc ? 'a' AND b = $1", "dollar", "doc ? 'a' AND b = $1", ()),
        ("doc ? 'a'", "", "doc ? 'a'", ()),
    ],
)
def test_placeholders_of_drivers_are_numbered(
    sql: str, style: str, shown: str, keys: tuple[Any, ...]
) -> None:
    assert numbered(sql, style) == (shown, keys)


def test_values_go_where_their_placeholders_are() -> None:
    assert values_in_order({"b": "2", "a": "1"}, ("a", "b")) == ("1", "2")
    assert values_in_order(["1", "2"], (0, 1)) == ("1", "2")
    assert values_in_order(["1"], ()) == ("1",)  # numbered already
    assert values_in_order(["1"], (0, 1)) == ()  # one was not given
    assert values_in_order({}, ("a",)) == ()
    assert as_text([1, None, 'a"b', [True]]) == '{1,NULL,"a\\"b",{true}}'
    assert as_text({"a": [1]}) == '{"a":[1]}'


@pytest.mark.parametrize(
    ("sql", "origin", "request_"),
    [
        ("SELECT 1", Origin(), ""),
        (
            "SELECT 1 /*action='list',controller='buoys',route='%2Fbuoys%2F%3Cid%3E',"
            "traceparent='00-5bd66ef5095369c7b0d1f8f4bd33716a-c532cb4098ac3dd2-01'*/",
            Origin(function="list", route="/buoys/<id>"),
            "5bd66ef5095369c7b0d1f8f4bd33716a",
        ),
        (
            "/* application:Pier,controller:buoys,action:list,line:app/buoys.py:12 */ SELECT 1",
            Origin("", "list", "buoys/list"),
            "",
        ),
        (
            "SELECT 1 /*code.filepath='app%2Fbuoys.py',code.lineno='12',job='nightly'*/",
            Origin("app/buoys.py:12", "", "nightly"),
            "",
        ),
        ("SELECT /*+ hint(a) */ 'b' /* read: slowly */", Origin(), ""),
        ("SELECT '/*route=''x''*/'", Origin(), ""),
        ("SELECT 1 /* no end", Origin(), ""),
    ],
)
def test_comments_of_frameworks_tell_the_origin(sql: str, origin: Origin, request_: str) -> None:
    found = tagged(sql)
    assert (found.origin, found.request) == (origin, request_)


def test_runs_with_values_rows_and_places(ledger: Program) -> None:
    entries = [
        run(
            statement="SELECT name FROM buoy WHERE id = %(id)s",
            placeholders="pyformat", parameters={"id": 7}, rows=3, database="skerry", user="app",
            application="pier", session=11, request="r1", route="GET /buoys",
            code="pier/buoys.py:40", function="listed", ms=5.5,
        ),
        run(statement="SELECT name FROM buoy WHERE id = 8", at="2026-09-21T14:13:21Z", rows=1),
        run(statement="SELECT name FROM buoy WHERE id = 9", at="2026-09-21T14:13:22.5+02:00"),
    ]  # fmt: skip
    found = captured(ledger, *entries)
    assert (found["source"], found["kept_runs"], found["queries"]) == ("application", 3, 1)
    (query,) = ledger.json("queries")["queries"]
    assert query["work"]["rows"] == 4 and query["total_ms"] == 9.5
    assert query["applications"] == ["pier"]
    shown = ledger.json("show", "q1")
    slowest = shown["runs"][0]
    assert (slowest["statement"], slowest["parameters"]) == (
        "SELECT name FROM buoy WHERE id = $1", ["7"],
    )  # fmt: skip
    assert {each["started_at"][:19] for each in shown["runs"]} == {
        "2026-09-21T14:13:20", "2026-09-21T14:13:21", "2026-09-21T12:13:22",
    }  # fmt: skip
    (sender,) = shown["senders"]
    assert (sender["code"], sender["function"], sender["route"], sender["calls"]) == (
        "pier/buoys.py:40", "listed", "GET /buoys", 1,
    )  # fmt: skip
    assert "measured by the application" in ledger.ok("queries").out
    places = ledger.json("queries", "--by-code")
    assert places["total_ms"] == 5.5 and places["unplaced_ms"] == 4.0
    assert "do not tell their place took 4.00 ms" in ledger.ok("queries", "--by-code").out


def test_a_loop_is_within_one_request_not_across_several(ledger: Program) -> None:
    """A connection of a pool serves request after request; one statement in each is no loop."""
    one_each = [
        run(
            statement="SELECT * FROM setting WHERE id = 1", session=5, request=f"r{n}",
            at=BEGAN + n / 100, code="pier/app.py:3",
        )
        for n in range(60)
    ]  # fmt: skip
    loop = [
        run(
            statement=f"SELECT * FROM keeper WHERE id = {n}", session=5 + n % 3, request="r99",
            route="GET /keepers", at=BEGAN + 10 + n / 100, ms=0.5, code="pier/keepers.py:8",
            function="name",
        )
        for n in range(60)
    ]  # fmt: skip
    captured(ledger, *one_each, *loop)
    told = [s for q in ("q1", "q2") for s in ledger.json("show", q)["symptoms"]]
    (symptom,) = ledger.json("show", told[0])["symptoms"]
    assert len(told) == 1 and symptom["evidence"]["code"] == "pier/keepers.py:8"
    assert symptom["summary"].startswith(
        "pier/keepers.py:8 (name) sent it up to 60 times in one request (GET /keepers), 60 times "
    )
    rows = {p["code"]: p for p in ledger.json("queries", "--by-code")["places"]}
    assert rows["pier/app.py:3"]["most_in_one_request"] == 1
    assert rows["pier/keepers.py:8"]["most_in_one_request"] == 60


def test_what_is_none_or_failed_is_counted_and_the_rest_is_kept(ledger: Program) -> None:
    good = json.dumps(run())
    text = "\n".join(
        [good, "{torn", "[]", json.dumps(run(ms=-1)), json.dumps(run(error="no such table")),
         json.dumps(run(statement="", left_out=40, ms=0)), json.dumps(run(statement="BEGIN")),
         json.dumps({"statement": "SELECT 1"}), '{"ms": "x", "statement": 1}', "", good, ""]
    )  # fmt: skip
    (ledger.folder / "app.jsonl").write_text(text + '{"at": 1, "statement": "SELECT 2')
    found = ledger.json("capture", "log", "app.jsonl")
    assert found["kept_runs"] == 2
    assert found["passed_over"] == {
        "unreadable line": 3, "duration that cannot be one": 1, "statement that failed": 1,
        "statement left out by the recorder": 40, "statement without a plan": 1,
    }  # fmt: skip
    assert found["first_unreadable"] == "app.jsonl, line 2"
    with (ledger.folder / "app.jsonl").open("a") as file:  # the line that was being written
        file.write('", "ms": 1}\n')
    assert ledger.json("capture", "log", "app.jsonl")["kept_runs"] == 1


HOSTILE = [
    '{"ms":1,"statement":"SELECT 1","parameters":' + "[" * 800 + "]" * 800 + "}",
    '{"ms":1,"statement":"SELECT 1","parameters":' + "[" * 100_000,
    '{"ms":1,"statement":"SELECT 1","parameters":[' + "9" * 5_000 + "]}",
    '{"ms":1,"statement":"SELECT 1","rows":' + "9" * 30 + "}",
    '{"ms":1e400,"statement":"SELECT 1"}',
    '{"ms":1,"statement":"SELECT 1","at":1e308}',
    '{"ms":1,"statement":"SELECT 1","at":-5}',
    '{"ms":1,"statement":"SELECT \\ud800"}',
    '{"ms":1,"statement":"SELECT \\u0000 1","code":"a\\u0000b.py:1"}',
    '{"ms":1,"statement":"' + "/*" * 200_000 + '"}',
    '{"ms":1,"statement":"SELECT ' + "x" * 2_000_000 + '"}',
    '{"ms":1,"statement":"SELECT 1","left_out":' + "9" * 18 + "}",
    '{"resourceSpans":[{"scopeSpans":[{"spans":[{"startTimeUnixNano":"x"}]}]}]}',
    '{"ms":1,"statement":"SELECT 1","code":"' + "a\\n" * 100_000 + '"}',
]


@pytest.mark.parametrize("moment", ['"' + "9" * 5_000 + '"', "9" * 400, '"-5"', "-5", '"x"'])
def test_a_span_whose_moments_are_none_is_passed_over(ledger: Program, moment: str) -> None:
    good = json.dumps(exported("pier", span("q", **{"db.statement": "SELECT 1"})))
    bad = good.replace(f'"{int(BEGAN * 1e9)}"', moment)
    assert bad != good
    (ledger.folder / "spans.jsonl").write_text(f"{good}\n{bad}\n{good}\n")
    assert ledger.json("capture", "log", "spans.jsonl")["kept_runs"] == 2


@pytest.mark.parametrize("line", HOSTILE, ids=range(len(HOSTILE)))
def test_no_line_ends_the_capture(ledger: Program, line: str) -> None:
    good = json.dumps(run(statement="SELECT 'good'"))
    (ledger.folder / "app.jsonl").write_text(f"{good}\n{line}\n{good}\n")
    found = ledger.json("capture", "log", "app.jsonl")
    assert found["lines"] == 3 and found["kept_runs"] >= 2
    assert "\x00" not in ledger.ok("queries").out + ledger.ok("queries", "--by-code").out


def test_masked_nothing_of_a_value_is_kept(ledger: Program) -> None:
    entries = [
        run(statement="SELECT 'secret' WHERE a = %s", parameters=["hidden"], placeholders="format"),
        run(statement="SELECT 424242 WHERE b = 1", code="pier/app.py:3", route="GET /hidden"),
    ]
    (ledger.folder / "app.jsonl").write_text("".join(json.dumps(e) + "\n" for e in entries))
    ledger.ok("capture", "log", "app.jsonl", "--mask")
    kept = b"".join(p.read_bytes() for p in ledger.folder.glob("humble.ledger*"))
    assert b"pier/app.py:3" in kept
    assert not any(word in kept for word in (b"secret", b"hidden", b"424242"))


def test_packed_logs_and_names_of_any_kind(ledger: Program) -> None:
    entry = run(code="pier/\x1b[31mred\x07.py:1", function="ü" * 500, route="GET /\ud83d\ude00")
    with gzip.open(ledger.folder / "old.gz", "wt") as file:
        file.write(json.dumps(entry) + "\n")
    ledger.ok("capture", "log", "old.gz")
    shown = ledger.ok("queries", "--by-code").out
    assert "\x1b" not in shown and "\x07" not in shown and "red" in shown
    assert ledger.ok("show", "q1").out.count("\x1b") == 0


def test_logs_of_a_server_and_of_an_application_are_not_captured_together(ledger: Program) -> None:
    (ledger.folder / "app.jsonl").write_text(json.dumps(run()) + "\n")
    (ledger.folder / "server.log").write_text(
        "2026-03-01 10:00:00.000 UTC [7] app@skerry LOG:  duration: 5.0 ms  statement: SELECT 1\n"
    )
    told = ledger.fails(2, "capture", "log", "app.jsonl", "server.log")
    assert "one after the other" in told
    ledger.ok("capture", "log", "server.log")
    ledger.ok("capture", "log", "app.jsonl")
    assert ledger.json("queries")["source"] == "application"
    # Nothing more is in one of these: it is still what it was.
    (ledger.folder / "more.jsonl").write_text(json.dumps(run(code="pier/app.py:3")) + "\n")
    assert ledger.json("capture", "log", "app.jsonl", "more.jsonl")["kept_runs"] == 1
    assert ledger.json("queries", "--source", "log")["queries"][0]["total_ms"] == 5.0


def test_a_servers_log_with_tags_tells_places_too(ledger: Program) -> None:
    tag = "/*route='%2Fkeepers',file='pier%2Fkeepers.py',line='8',func='name'*/"
    lines = [
        f"2026-03-01 10:00:00.{n:03} UTC [7] app@skerry LOG:  duration: 0.5 ms  "
        f"statement: SELECT * FROM keeper WHERE id = {n} {tag}\n"
        for n in range(60)
    ]
    (ledger.folder / "server.log").write_text("".join(lines))
    ledger.ok("capture", "log", "server.log", "--prefix", "%m [%p] %u@%d ")
    (place,) = ledger.json("queries", "--by-code")["places"]
    assert (place["code"], place["calls"], place["total_ms"]) == ("pier/keepers.py:8", 60, 30.0)
    (symptom,) = ledger.json("show", "q1")["symptoms"]
    summary = ledger.json("show", symptom)["symptoms"][0]["summary"]
    assert summary.startswith("pier/keepers.py:8 (name) sent it up to 60 times in a row")


def span(name: str, *, kind: int = 3, start: int = 0, ms: float = 1.0, **attributes: Any) -> Any:
    values = {str: "stringValue", int: "intValue", float: "doubleValue"}
    begun = int(BEGAN * 1e9) + start * 1_000_000
    return {
        "traceId": "a" * 32, "spanId": "b" * 16, "name": name, "kind": kind,
        "startTimeUnixNano": str(begun), "endTimeUnixNano": str(begun + int(ms * 1e6)),
        "attributes": [
            {"key": key, "value": {values[type(v)]: str(v) if isinstance(v, int) else v}}
            for key, v in attributes.items()
        ],
        "status": {},
    }  # fmt: skip


def exported(service: str, *spans: Any) -> dict[str, Any]:
    resource = {"attributes": [{"key": "service.name", "value": {"stringValue": service}}]}
    return {"resourceSpans": [{"resource": resource, "scopeSpans": [{"spans": list(spans)}]}]}


@pytest.mark.parametrize("names", ["new", "old"])
def test_spans_of_traces_are_runs(ledger: Program, names: str) -> None:
    new = names == "new"
    sent = {
        "db.query.text" if new else "db.statement": "SELECT name FROM keeper WHERE id = %s",
        "db.namespace" if new else "db.name": "skerry",
        "code.file.path" if new else "code.filepath": "pier/keepers.py",
        "code.line.number" if new else "code.lineno": 8,
        "code.function.name" if new else "code.function": "name",
        "db.query.parameter.0": "7",
    }
    loop = [span("SELECT skerry", start=n, ms=0.5, **sent) for n in range(40)]
    failed = span("SELECT skerry", **sent) | {"status": {"code": 2}}
    served = span("GET", kind=2, ms=90.0, **{"http.route": "/keepers/{id}", "http.method": "GET"})
    other = span("GET http://elsewhere", ms=4.0)
    found = captured(ledger, exported("pier", *loop, failed, other), exported("pier", served))
    assert (found["source"], found["kept_runs"]) == ("application", 40)
    assert found["passed_over"] == {"statement that failed": 1}
    (place,) = ledger.json("queries", "--by-code")["places"]
    assert (place["code"], place["function"]) == ("pier/keepers.py:8", "name")
    assert place["routes"] == ["GET /keepers/{id}"] and place["most_in_one_request"] == 40
    shown = ledger.json("show", "q1")
    assert shown["runs"][0]["parameters"] == ["7"] and shown["query"]["applications"] == ["pier"]
    assert len(shown["symptoms"]) >= 1


def test_no_servers_log_is_taken_for_an_applications() -> None:
    server = {"timestamp": "2026-03-01", "error_severity": "LOG", "message": '"ms"',
              "statement": "SELECT 1"}  # fmt: skip
    for start in (json.dumps(server).encode(), b"2026-03-01 LOG: x", b"", b"[1]", b"{", b"\xff"):
        assert not any(form.recognises(start + b"\n", None) for form in APPLICATION_LOGS)


def test_calls_are_counted_per_request_however_many_are_open() -> None:
    watch = OriginWatch()
    here = Origin("a.py:1")
    for n in range(12_000):
        watch.saw(0, here, 1.0, f"r{n % 6_000}")
    first = watch.harvest(ended=False)[0, here]
    rest = watch.harvest(ended=True)[0, here]
    assert first.calls == 12_000 and rest.calls == 0
    # Five thousand are remembered: those that were seen longest ago have counted as over.
    assert first.requests + rest.requests == 12_000 and rest.most_in_one == 1


def test_places_are_summed_over_their_queries_and_routes() -> None:
    senders = [
        Sender("q1", Origin("a.py:1", "f", "GET /x"), Sent(2, 10.0, 6.0, 2, 1)),
        Sender("q2", Origin("a.py:1", "f", "GET /y"), Sent(5, 40.0, 20.0, 1, 5)),
        Sender("q1", Origin("", "", "GET /z"), Sent(1, 30.0, 30.0, 0, 0)),
    ]
    first, second = by_code(senders)
    assert (first.code, first.queries, first.routes) == (
        "a.py:1",
        ("q2", "q1"),
        ("GET /y", "GET /x"),
    )
    assert (first.calls, first.total_ms, first.share, first.most_in_one) == (7, 50.0, 0.625, 5)
    assert (second.code, second.function, second.calls) == ("", "GET /z", 1)
    assert not by_code([])


def test_the_findings_of_a_loop_name_the_line_that_sent_the_most() -> None:
    gathering = Gathering()
    for n in range(30):
        gathering.repetition.saw(0, "s", BEGAN + n / 10, 1.0, n)
        origin = Origin("a.py:1" if n % 3 else "b.py:2", "f")
        gathering.repetition.came_from(0, "s", origin, in_request=False)
    (symptom,) = repetition_symptoms(gathering.repetition.finish()[0])
    told = symptom.summary.arguments
    assert (told["sender"], told["largest"], told["requests"]) == ("a.py:1 (f)", 30, False)
    assert clean("a\x00b") == "a\ufffdb"
