"""The story: each command of the loop with its real output, on a real server."""

from __future__ import annotations

import contextlib
import os
import shlex
import shutil
import signal
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from rich.console import RenderableType

from humble_ledger.demo.scenario import (
    LOG_PREFIX,
    build_scenario,
    build_scenario_in,
    remove_scenario,
    scenario_cluster,
)
from humble_ledger.demo.summary import summary_view
from humble_ledger.demo.wire_log import WireLog
from humble_ledger.demo.workload import load_workload, send_workload
from humble_ledger.engines.launching.keeping import FOLDER_VARIABLE
from humble_ledger.engines.postgresql.launcher import find_binaries
from humble_ledger.errors import HumbleError, WrongUsage
from humble_ledger.workflow.workspace import Workspace

Run = Callable[[list[str]], int]
Show = Callable[[RenderableType, str, bool], None]  # what, style, leave long lines whole

MARKER = ".skerry-watch"
LOG = "server.log"
OUR_FILES = ("humble.toml", "humble.ledger*", LOG, MARKER, "migrations/*.sql")
STORY_QUERY = "FROM reading WHERE sensor_id = $1 AND taken_at"


@dataclass(frozen=True, slots=True)
class Stage:
    """Where the story plays: the server's URL, what it is, its log file and how lines begin."""

    url: str
    server: str
    log: Path
    prefix: str = LOG_PREFIX


class Teller:
    """Prints what happens, and each command before it runs."""

    def __init__(self, run: Run, show: Show) -> None:
        self._run = run
        self._show = show
        self._began = time.monotonic()

    def say(self, words: str = "") -> None:
        """A line of the story."""
        self._show(words, "bold magenta", True)

    def plain(self, words: str) -> None:
        """Lines that are no part of the story."""
        self._show(words, "", True)

    def view(self, view: RenderableType) -> None:
        """A view that fits itself to the terminal."""
        self._show(view, "", False)

    def command(self, *arguments: str) -> None:
        """Show a command as it would be typed, and run it.

        Raises:
            HumbleError: it did not end with 0; its own message stands above.
        """
        typed = shlex.join(arguments)
        self._show(f"$ humble {typed}", "bold", True)
        code = self._run(list(arguments))
        if code != 0:
            raise HumbleError(f'The demo stops here: "humble {typed}" ended with {code}.')
        self.plain("")

    @property
    def seconds(self) -> float:
        """How long it took by now."""
        return time.monotonic() - self._began


def tell(
    folder: Path,
    run: Run,
    show: Show,
    *,
    stay: bool,
    target: str | None,
    binaries: Path | None,
    engine: str = "postgresql",
) -> None:
    """Tell the whole loop for one query, then look at the whole workload.

    ``run`` runs one command line of the program, ``show`` prints. However this ends, the
    server is stopped.
    """
    teller = Teller(run, show)
    begun_in = Path.cwd()
    folder = folder.resolve()
    _prepare(folder)
    if engine == "mariadb":
        if target is not None or binaries is not None:
            raise WrongUsage(
                "The story of MariaDB is told on a server of our own.",
                "Leave out --target and --binaries.",
            )
        scene = mariadb_staged(folder, teller)
    elif engine == "postgresql":
        scene = staged(folder, teller, target, binaries)
    else:
        raise WrongUsage(
            f'There is no story of "{engine}".', "Use --engine postgresql or --engine mariadb."
        )
    with _terminated_politely(), scene as stage, contextlib.chdir(folder):
        _chapters(teller, stage)
        teller.say(f"The story took {teller.seconds:.0f} s.")
        _farewell(teller, os.path.relpath(folder, begun_in), stay, engine)
        if stay:
            _wait()


def _chapters(teller: Teller, stage: Stage) -> None:
    teller.say("\n1. Begin: a ledger and a target for this folder")
    teller.command("init", stage.url, "--role", "scratch")
    teller.say("2. Capture: the server's slow log, as it wrote it")
    prefix = ("--prefix", stage.prefix) if stage.prefix else ()
    teller.command("capture", "log", LOG, *prefix)
    teller.say("3. Read: which queries take the time?")
    teller.command("queries", "--top", "8")
    query = _story_query()
    teller.say(f"One of them, {query}, opens every buoy's page. How does the server run it?")
    teller.command("plan", query, "--measure")
    teller.say("What else could it do, and what decides?")
    teller.command("routes", query)
    teller.say("4. Diagnose: what costs time there, and why?")
    teller.command("diagnose", query)
    teller.say("And what costs time or space in the schema?")
    teller.command("diagnose", "--schema")
    teller.say("5. Propose: what should help? Nothing is built for this")
    teller.command("propose", query)
    seen = "an index nobody else sees" if stage.prefix else "an index that one side ignores"
    teller.say(f"6. Verify: before and after in turns, with {seen}")
    teller.command("trial", query, "--remedy", "r1")
    teller.say("And an index that cannot help, to see that the judge is honest")
    teller.command("trial", query, "--index", "reading (quality, value)", "--pairs", "12")
    teller.say("7. Settle: keep it, and write the migration both ways")
    teller.command("settle", "t1", "keep", "--reason", "every buoy page waits for it")
    for file in sorted(Path("migrations").glob("*.sql"), reverse=True):
        teller.plain(f"{file}:")
        teller.plain(file.read_text())
    teller.command("settle", "t2", "drop", "--reason", "not used")
    teller.say("What two clients feel of it, while it is built online in the middle")
    teller.command(
        "replay", query, "--clients", "2", "--seconds", "6", "--change-at", "3",
        "--remedy", "r1", "--to", "step.svg",
    )  # fmt: skip
    teller.command("history", "--last", "12")
    teller.say("8. The whole workload: each query run once, measured and diagnosed")
    with Workspace.find() as workspace:
        teller.view(summary_view(workspace))
    teller.plain("")


def _story_query() -> str:
    with Workspace.find() as workspace:
        return next(q.id for q in workspace.ledger.queries.all() if STORY_QUERY in q.text)


@contextmanager
def staged(
    folder: Path, teller: Teller, target: str | None, binaries: Path | None
) -> Iterator[Stage]:
    """A server with the scenario in it and its workload in the log."""
    log = folder / LOG
    if target is not None:
        teller.say("Building Skerry Watch in your database …")
        build_scenario_in(target)
        try:
            sent = send_workload(target, load_workload(), WireLog(log).listen)
            teller.say(f"Its applications sent {sent} statements ({teller.seconds:.0f} s).")
            yield Stage(target, "your server", log)
        finally:
            remove_scenario(target)
        return
    found = find_binaries(binaries)
    teller.say(f"Starting PostgreSQL {found.version} ({found.source}) on a socket of its own …")
    with scenario_cluster(found) as cluster:
        teller.say("Building Skerry Watch: 400 buoys, 1.5 million readings …")
        url = build_scenario(cluster)
        teller.say(f"Built after {teller.seconds:.0f} s. Its applications send their statements …")
        sent = send_workload(url, load_workload())
        teller.say(f"{sent} statements sent, after {teller.seconds:.0f} s.")
        log.symlink_to(cluster.log)
        try:
            with _hollows_in(cluster.folder):
                yield Stage(url, f"PostgreSQL {found.version}", log)
        finally:
            # The server's folder goes with it; the log stays for a later look.
            log.unlink()
            shutil.copyfile(cluster.log, log)


@contextmanager
def mariadb_staged(folder: Path, teller: Teller) -> Iterator[Stage]:
    """The same on a MariaDB of our own."""
    # The driver and the scenario of another server: nobody else needs them.
    from humble_ledger.demo.mariadb import (  # noqa: PLC0415
        build_mariadb_scenario,
        mariadb_cluster,
        send_mariadb_workload,
    )
    from humble_ledger.engines.mysql.launcher import find_programs  # noqa: PLC0415

    log = folder / LOG
    programs = find_programs()
    teller.say(f"Starting MariaDB {programs.version} on a socket of its own …")
    with mariadb_cluster(programs) as cluster:
        teller.say("Building Skerry Watch: 400 buoys, 1.5 million readings …")
        url = build_mariadb_scenario(cluster)
        teller.say(f"Built after {teller.seconds:.0f} s. Its applications send their statements …")
        sent = send_mariadb_workload(cluster)
        teller.say(f"{sent} statements sent, after {teller.seconds:.0f} s.")
        log.symlink_to(cluster.slow_log)
        try:
            yield Stage(url, f"MariaDB {programs.version}", log, "")
        finally:
            log.unlink()
            shutil.copyfile(cluster.slow_log, log)


@contextmanager
def _hollows_in(folder: Path) -> Iterator[None]:
    """Keep the copies without rows beside the demo's server, so that they go with it."""
    before = os.environ.get(FOLDER_VARIABLE)
    os.environ[FOLDER_VARIABLE] = before or str(folder)
    try:
        yield
    finally:
        if before is None:
            os.environ.pop(FOLDER_VARIABLE, None)


def _prepare(folder: Path) -> None:
    """An empty folder, or one of an earlier demo, whose files are removed.

    Raises:
        WrongUsage: the folder holds something that is not ours.
    """
    if folder.exists() and any(folder.iterdir()) and not (folder / MARKER).exists():
        raise WrongUsage(
            f"The folder {folder} is not empty and not from an earlier demo.",
            "Name another with  --folder",
        )
    folder.mkdir(parents=True, exist_ok=True)
    for pattern in OUR_FILES:
        for file in folder.glob(pattern):
            file.unlink()
    (folder / MARKER).write_text('Made by "humble demo", and made anew by the next one.\n')


def _farewell(teller: Teller, shown: str, stay: bool, engine: str) -> None:
    if not stay:
        teller.say(f"Ledger, log and migrations are in {shown}. The server stops now.")
        which = "" if engine == "postgresql" else f" --engine {engine}"
        teller.say(f"To explore it yourself:  humble demo{which} --stay")
        return
    teller.say("The server stays until you press Ctrl-C here. In another terminal:")
    teller.plain(f"  cd {shown}")
    teller.plain("  humble queries\n  humble diagnose\n  humble propose\n  humble show t1")
    teller.plain("  humble plan \"SELECT count(*) FROM alert WHERE status = 'open'\" --measure")


def _wait() -> None:
    try:
        while True:
            time.sleep(3600)
    except KeyboardInterrupt:
        return


@contextmanager
def _terminated_politely() -> Iterator[None]:
    """Let a kill (SIGTERM, SIGHUP) unwind like Ctrl-C, so that the server is stopped."""

    def stop(number: int, frame: object) -> None:
        raise KeyboardInterrupt

    numbers = (signal.SIGTERM, signal.SIGHUP)
    before = {number: signal.signal(number, stop) for number in numbers}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
