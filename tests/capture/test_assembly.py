from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

import pytest

from humble_ledger.capture.assembly import Assembler, PlanSeen, Tally
from humble_ledger.capture.log_rows import BlockWriter
from humble_ledger.core.statements.wording import refill
from humble_ledger.core.workload.gathering import Gathering, RunSeen
from humble_ledger.engines.postgresql.logs.plain import plain_rows
from humble_ledger.engines.postgresql.logs.prefix import entry_pattern

PREFIX = "%m [%p] %q%u@%d/%a "
HEAD = "2026-03-01 10:00:00.500 UTC [{pid}] me@skerry/app "
DURATION = HEAD + "LOG:  duration: {ms} ms  {step}: {sql}\n"


@dataclass
class Read:
    """What a text of log lines gave."""

    runs: Sequence[RunSeen]
    tally: Tally
    gathering: Gathering
    plans: list[PlanSeen]

    @property
    def texts(self) -> list[str]:
        return [refill(run.wording, run.literals) for run in self.runs]


def read(text: str, prefix: str | None = PREFIX, mask: bool = False) -> Read:
    gathering, tally, plans = Gathering(), Tally(), []
    assembler = Assembler(gathering, tally, plans.append, mask)
    assembler.begin("x.log")
    assembler.take(plain_rows(text.encode("utf-8", "surrogateescape"), prefix))
    assembler.leave()
    return Read(gathering.harvest().runs, tally, gathering, plans)


def line(sql: str, ms: float = 2.5, pid: int = 7, step: str = "statement") -> str:
    return DURATION.format(pid=pid, ms=ms, step=step, sql=sql.replace("\n", "\n\t"))


def detail(values: str, pid: int = 7, word: str = "Parameters") -> str:
    return HEAD.format(pid=pid) + f"DETAIL:  {word}: {values}\n"


@pytest.mark.parametrize("prefix", [PREFIX, None])
def test_a_statement_of_several_lines(prefix: str | None) -> None:
    done = read(line("SELECT 1\nFROM t\n\nWHERE a = 'x'"), prefix)
    (found,), tally = done.runs, done.tally
    assert done.texts == ["SELECT 1\nFROM t\n\nWHERE a = 'x'"]
    assert found.literals == ["1", "'x'"]
    assert (found.duration_ms, found.client) == (2.5, ("me", "skerry", "app"))
    assert found.session == "7"
    assert found.started_s == datetime(2026, 3, 1, 10, 0, 0, 497_500, UTC).timestamp()
    assert (tally.lines, tally.entries, done.gathering.kept) == (4, 1, 1)
    assert tally.passed_over == {}


@pytest.mark.parametrize("word", ["Parameters", "parameters"])
def test_values_come_from_the_detail_also_when_sessions_interleave(word: str) -> None:
    text = (
        line("SELECT $1", pid=1, step="execute <unnamed>")
        + line("SELECT $1, $2", pid=2, step="execute s_1")
        + detail("$1 = 'it''s, $2 = ''x'''", pid=1, word=word)
        + detail("$1 = NULL, $2 = 'two\n\tlines'", pid=2, word=word)
        + line("SELECT 3", pid=1)
    )
    done = read(text)
    by_sql = {sql: run.values for sql, run in zip(done.texts, done.runs, strict=True)}
    assert by_sql == {
        "SELECT $1": ("it's, $2 = 'x'",),
        "SELECT $1, $2": (None, "two\nlines"),
        "SELECT 3": (),
    }


def test_parse_and_bind_are_steps_of_the_execution() -> None:
    text = "".join(line("SELECT 1", step=f"{s} <unnamed>") for s in ("parse", "bind", "execute"))
    assert [run.duration_ms for run in read(text).runs] == [2.5]


@pytest.mark.parametrize(
    ("text", "reason"),
    [
        (line("BEGIN"), "statement without a plan"),
        (HEAD.format(pid=1) + "LOG:  duration: 3.0 ms\n", "duration without its statement"),
        ("what is this\n", "unreadable line"),
        (line("SELECT 1").replace("/app", "/humble-ledger t1"), "our own statement"),
    ],
)
def test_what_is_passed_over_is_counted(text: str, reason: str) -> None:
    done = read(text + line("SELECT 2", pid=9))
    assert done.texts == ["SELECT 2"]
    assert done.tally.passed_over == {reason: 1}


def test_the_place_of_the_first_unreadable_line_is_told_and_the_rest_kept() -> None:
    text = line("SELECT 1") + "\x00\x01 torn\n" + line("SELECT 2", pid=8)
    done = read(text)
    assert len(done.runs) == 2
    assert done.tally.first_unreadable == "x.log, line 2"


def test_other_messages_are_no_statements() -> None:
    head = HEAD.format(pid=5)
    text = f"{head}ERROR:  syntax error\n{head}STATEMENT:  selec 1\n{head}LOG:  hello\n"
    assert read(text).runs == []


@pytest.mark.parametrize(
    ("prefix", "written"),
    [
        ("%t [%p]: ", "2026-03-01 10:00:00 UTC [12]: "),
        ("%m [%p] ", "2026-03-01 10:00:00.123 UTC [12] "),
        ("%n %c ", "1772359200.000 65e1a2b3.4d2 "),
        ("%m [%p-%l] %r %e ", "2026-03-01 10:00:00.123 UTC [12-3] 10.0.0.1(5432) 00000 "),
        ("%m %q[%u@%d] %a: ", "2026-03-01 10:00:00.123 UTC [me@x y] my app: "),
        ("<%m %-6p 100%% %v> ", "<2026-03-01 10:00:00.123 UTC 12     100% 3/4> "),
        ("", ""),
    ],
)
def test_any_prefix_reads_what_was_written_with_it(prefix: str, written: str) -> None:
    pattern = entry_pattern(prefix)
    match = pattern.match(f"{written}LOG:  duration: 1.0 ms  statement: SELECT 1\n")
    assert match is not None
    assert (match["ran"], match["message"]) == ("1.0", "SELECT 1")
    match = pattern.match(f"{written}ERROR:  out of fish: ms\n\tall of them\nmore")
    assert match is not None
    assert (match["ran"], match["message"]) == (None, "out of fish: ms\n\tall of them")


def test_a_duration_written_apart_finds_its_statement() -> None:
    head = HEAD.format(pid=5) + "LOG:  "
    other = HEAD.format(pid=6) + "LOG:  "
    text = (
        f"{head}statement: SELECT 1\n"
        f"{other}execute <unnamed>: SELECT $1\n"
        + detail("$1 = '9'", pid=6)
        + f"{head}duration: 4.5 ms\n{other}duration: 5.5 ms\n"
    )
    done = read(text)
    found = {
        sql: (run.duration_ms, run.values) for sql, run in zip(done.texts, done.runs, strict=True)
    }
    assert found == {"SELECT 1": (4.5, ()), "SELECT $1": (5.5, ("9",))}


@pytest.mark.parametrize(
    ("stamp", "expected"),
    [
        ("2026-03-01 10:00:00 UTC", datetime(2026, 3, 1, 10, tzinfo=UTC)),
        ("1772359200.250", datetime(2026, 3, 1, 10, 0, 0, 250_000, UTC)),
        ("2026-03-01 10:00:00.5 CET", datetime(2026, 3, 1, 10, 0, 0, 500_000, UTC)),
        ("2026-03-01 12:00:00 +02", datetime(2026, 3, 1, 10, tzinfo=UTC)),
        ("yesterday", None),
        ("2026-99-01 10:00:00 UTC", None),
        ("", None),
    ],
)
def test_times(stamp: str, expected: datetime | None) -> None:
    writer = BlockWriter()
    assert writer.time(stamp) == (None if expected is None else expected.timestamp())
    assert writer.block.zoned == ("CET" not in stamp), (
        "a zone's short name does not tell its offset"
    )
