"""Making a recording: a target is asked all that the loop asks, and its answers are written down.

What is asked lands in a ledger of its own that is thrown away; the folder's stays as it is.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory

from humble_ledger.core.remedies.model import RemedyType
from humble_ledger.core.results.recordings import Recording
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.masking import masked
from humble_ledger.engines.contract import Capability
from humble_ledger.engines.registry import noting
from humble_ledger.errors import HumbleError, UnreadableInput, WrongUsage
from humble_ledger.ledger.repository import Ledger
from humble_ledger.workflow.diagnosing.everything import diagnose
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.proposing.everything import propose
from humble_ledger.workflow.reading.plans import explain_now, newest_plan
from humble_ledger.workflow.reading.ranking import captured_queries
from humble_ledger.workflow.reading.routes import routes_of
from humble_ledger.workflow.reading.subjects import Subject, subject_of
from humble_ledger.workflow.trying.trial import try_remedies
from humble_ledger.workflow.workspace import Workspace

# What is tried, the first that was proposed.
_TRIED = (RemedyType.INDEX, RemedyType.REWRITE, RemedyType.SETTING, RemedyType.STATISTICS)


@dataclass(slots=True)
class _Making:
    """A recording while it is made; what a target refused is told at the end."""

    workspace: Workspace
    measure: bool
    trials: bool
    progress: Progress
    refused: list[tuple[str, str]] = field(default_factory=list)
    tried: int = 0

    def attempt(self, what: str, ask: Callable[[], object]) -> bool:
        """Ask; a refusal is an answer like any other, and ends nothing."""
        self.progress(what)
        try:
            ask()
        except HumbleError as error:
            self.refused.append((what, error.message))
            return False
        return True


def record(
    workspace: Workspace,
    path: Path,
    whats: Sequence[str] = (),
    *,
    mask: bool = False,
    measure: bool = False,
    trials: bool = False,
    progress: Progress = lambda _: None,
) -> Recording:
    """Ask a target about statements, and write its answers into a file.

    Each is explained, its routes are looked for, it is diagnosed, and remedies are proposed; with
    ``measure`` it is run, with ``trials`` its best remedy is tried. With ``mask`` no literal and no
    value of a column is in the file, and nothing that hangs on them.

    Raises:
        WrongUsage: masked and measured exclude each other, or there is no statement.
        UnreadableInput: the file is there already, or cannot be written.
    """
    if mask and (measure or trials):
        raise WrongUsage(
            "--mask goes without --measure and --trial: without its values nothing can be run.",
            "Record the plans alone, or leave --mask out.",
        )
    if path.exists():
        raise UnreadableInput(f"{path} is there already.", "Name another file, or remove it.")
    statements = _statements(workspace, whats)
    if not statements:
        raise WrongUsage(
            "There is no statement to ask about.",
            'Name some:  humble record FILE "SELECT …" , or capture first.',
        )
    mask = mask or workspace.configuration.mask
    engine, notes = noting(workspace.engine, mask=mask)
    with _beside(workspace) as beside:
        beside.ask_through(engine)
        making = _Making(beside, measure, trials, progress)
        server = beside.session.server
        _about_the_target(making)
        answered: list[bool] = []
        try:
            for number, statement in enumerate(statements, 1):
                named = f"statement {number} of {len(statements)}"
                answered.append(_about(making, statement, named))
        except KeyboardInterrupt:
            # What was answered until then is worth a file.
            answered.append(bool(notes.lines))
            making.refused.append(("all that would have followed", "stopped by Ctrl-C"))
    statements = statements[: len(answered)]
    if not any(answered):
        raise UnreadableInput(
            f"The server plans none of these statements: {making.refused[-1][1]}",
            "Give statements that it accepts.",
        )
    shown = tuple(masked(each.sql) if mask else each.sql for each in statements)
    if mask:
        server = replace(server, database="", user="")
    head = {
        "engine": server.engine,
        "server": server,
        "statements": list(shown),
        "masked": mask,
        "made_at": datetime.now(UTC).isoformat(timespec="seconds"),
    }
    try:
        notes.write(path, head)
    except OSError as error:
        raise UnreadableInput(
            f"{path} cannot be written: {error.strerror}.", "Name another file."
        ) from error
    refused = tuple(making.refused)
    return Recording(str(path), shown, len(notes.lines), making.tried, mask, refused)


def _statements(workspace: Workspace, whats: Sequence[str]) -> list[Statement]:
    found = []
    for what in whats or (captured_queries(workspace) if workspace.has_ledger else ()):
        subject = subject_of(workspace, what)
        statement = subject.statement
        if subject.plan is not None and subject.plan.statement:
            statement = Statement(subject.plan.statement, subject.plan.parameters)
        if statement is None:
            raise WrongUsage(f"{what} has no statement to ask about.", "Give a query or SQL.")
        found.append(statement)
    return list({(each.sql, each.values): each for each in found}.values())


@contextmanager
def _beside(workspace: Workspace) -> Iterator[Workspace]:
    """The same target with a ledger of its own, which is gone afterwards."""
    with TemporaryDirectory(prefix="humble-record-") as folder:
        ledger = Path(folder) / "ledger.db"
        Ledger(ledger, create=True).close()
        target = workspace.target
        apart = replace(
            workspace.configuration, folder=Path(folder), ledger=ledger,
            targets={target.name or "target": target},
        )  # fmt: skip
        with Workspace(apart, None, workspace.limits) as beside:
            yield beside


def _about_the_target(making: _Making) -> None:
    session = making.workspace.session
    for capability in Capability:
        session.support(capability)
    making.attempt("what the server lets us see", session.preflight)
    making.attempt("its tables", lambda: session.tables(session.user_tables()))
    making.attempt("its statistics of statements", session.statistics)


def _about(making: _Making, statement: Statement, named: str) -> bool:
    """All that the loop would ask about one statement, in its order; whether it has a plan."""
    workspace = making.workspace
    query = workspace.ledger.queries.keep(statement.sql)
    subject = Subject(query, statement)

    def plan(measure: bool) -> None:
        explain_now(workspace, subject, measure=measure)

    if not making.attempt(f"{named}: its plan", lambda: plan(False)):
        return False
    making.attempt(f"{named}: what costs time", lambda: diagnose(workspace, (query,)))
    entry = newest_plan(workspace, query)
    assert entry is not None  # it was explained just now
    making.attempt(f"{named}: its routes", lambda: routes_of(workspace, entry.id))
    if making.measure:
        making.attempt(f"{named}: running it", lambda: plan(True))
        making.attempt(f"{named}: what cost time", lambda: diagnose(workspace, (query,)))
    found: list[str] = []

    def look_for_remedies() -> None:
        proposed = propose(workspace, (query,))
        if proposed.stopped_early:
            raise KeyboardInterrupt  # it ends a proposal in good order, and is meant for all
        remedies = proposed.remedies
        for wanted in _TRIED:
            found.extend(e.id for e in remedies if e.remedy.type is wanted)

    making.attempt(f"{named}: what might help", look_for_remedies)
    if making.trials and found:
        what = newest_plan(workspace, query)
        assert what is not None

        def tried() -> None:
            entry = try_remedies(workspace, (what.id,), remedies=found[:1], one_set=True)
            making.tried += 1
            if entry.trial is not None and entry.trial.stopped_early:
                raise KeyboardInterrupt

        making.attempt(f"{named}: trying {found[0]}", tried)
    return True
