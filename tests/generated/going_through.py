"""One statement after the other through every command, in this process, watching the server."""

from __future__ import annotations

import contextlib
import io
import os
import re
import time
import traceback
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from random import Random

import psycopg

from humble_ledger.cli.entry import run
from humble_ledger.engines.postgresql.launcher import Cluster
from tests.generated.schemas import Column, Schema, Table, schema
from tests.generated.selects import Writer

# What the user's own statement may be refused for is no fault of ours.
_REFUSALS = (0, 5)  # done; refused for safety, as with a function that acts
_ERROR = re.compile(r"^(?:ERROR|FATAL|PANIC):  (.*)", re.MULTILINE)
# The copy's role may do less than the user, and it is said that it is the copy which refuses.
_BY_THE_COPY = "The copy cannot plan it, though the target does"
LONGEST_S = 600.0  # a statement that never ends, not a machine that is slow


@dataclass
class Fault:
    """A command that failed, or a question of ours that the server refused."""

    command: str
    statement: str
    what: str


@dataclass
class Gone:
    """What went through, and what did not."""

    statements: int = 0
    refused: int = 0
    faults: list[Fault] = field(default_factory=list)
    slowest_s: dict[str, float] = field(default_factory=dict)


@dataclass
class Ground:
    """A server with a schema at random, and a folder whose target it is."""

    cluster: Cluster
    url: str
    schema: Schema
    folder: Path

    def errors(self) -> list[str]:
        """What the server has refused so far."""
        return _ERROR.findall(self.cluster.log.read_text(errors="replace"))


@contextlib.contextmanager
def ground(cluster: Cluster, random: Random, folder: Path) -> Iterator[Ground]:
    """A running server with a schema; the server logs nothing but what it refuses."""
    made = schema(random)
    url = cluster.url("postgres")
    with psycopg.connect(url, autocommit=True) as connection:
        for statement in made.sql:
            connection.execute(statement.encode())
    with _in_folder(Ground(cluster, url, made, folder)) as place:
        yield place


@contextlib.contextmanager
def on_demo(cluster: Cluster, url: str, folder: Path) -> Iterator[Ground]:
    """The demo's database, as a schema of which only the largest tables are named."""
    alert = Table("alert", (Column("alert_id", "int"),), 100_000)
    with _in_folder(Ground(cluster, url, Schema((alert,), ()), folder)) as place:
        yield place


@contextlib.contextmanager
def _in_folder(place: Ground) -> Iterator[Ground]:
    before = Path.cwd()
    os.chdir(place.folder)
    try:
        code, said = _run(["init", place.url, "--role", "scratch"])
        assert code == 0, said
        yield place
    finally:
        os.chdir(before)


COMMANDS: dict[str, list[str]] = {"plan": [], "diagnose": [], "routes": [], "propose": []}


def go_through(
    on: Ground,
    random: Random,
    statements: int,
    written: Callable[[], str] | None = None,
    report: Callable[[Fault], None] = lambda _: None,
) -> Gone:
    """Statements at random through every command.

    Those that the server itself does not take are counted and passed over.
    """
    gone = Gone()
    write = written or Writer(on.schema, random).statement

    def fault(command: str, statement: str, what: str) -> None:
        gone.faults.append(Fault(command, statement, what))
        report(gone.faults[-1])

    with psycopg.connect(on.url, autocommit=True, prepare_threshold=None) as connection:
        while gone.statements < statements:
            sql = write()
            try:
                connection.execute("EXPLAIN " + sql)  # type: ignore[call-overload]
            except psycopg.Error:
                gone.refused += 1
                continue
            gone.statements += 1
            table = random.choice([t for t in on.schema.tables if not t.name.startswith("seen_")])
            column = table.columns[0].name.replace('"', '""')
            index = '"{}" ("{}")'.format(table.name.replace('"', '""'), column)
            for name, more in {**COMMANDS, "suppose": ["--index", index]}.items():
                known = len(on.errors())
                began = time.perf_counter()
                code, said = _run([name, sql, *more])
                took = time.perf_counter() - began
                gone.slowest_s[name] = max(took, gone.slowest_s.get(name, 0.0))
                if code not in _REFUSALS and _BY_THE_COPY not in said:
                    fault(name, sql, said.strip())
                if took > LONGEST_S:
                    fault(name, sql, f"took {took:.0f} s")
                for refused in on.errors()[known:]:
                    fault(name, sql, f"the server refused a question of ours: {refused}")
    return gone


def _run(arguments: list[str]) -> tuple[int, str]:
    """One command in this process: its exit code, and what it said on stderr."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            code = run(arguments)
        except Exception:
            return 99, traceback.format_exc()
    return code, err.getvalue()
