"""`humble show ID`: anything of the ledger by its id."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Annotated, Any

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for

if TYPE_CHECKING:
    from rich.console import RenderableType

    from humble_ledger.views.numbers import Numbers
    from humble_ledger.workflow.workspace import Workspace

Shown = tuple[Callable[[], Any], "Callable[[], RenderableType]"]


def show(
    id_: Annotated[str, typer.Argument(help="q1, p1, s1, r1, t1, y1 or k1.", metavar="ID")],
    json: options.Json = False,
) -> None:
    """Show anything by its id: query, plan, symptom, remedy, trial, replay, capture.

    Example: [bold]humble show q3[/bold]
    """
    with workspace_for() as workspace:
        kind = workspace.ledger.require(id_)
        document, view = _SHOWN[kind.value](workspace, id_, numbers_of(workspace))
        output.give(json, document, view)
        notes = workspace.ledger.notes.of(id_)
    if notes and not json:
        from humble_ledger.views.terminal.bundles import notes_view  # noqa: PLC0415

        output.show(notes_view(notes))


def _query(workspace: Workspace, id_: str, numbers: Numbers) -> Shown:
    from humble_ledger.views.documents.queries import query_document  # noqa: PLC0415
    from humble_ledger.views.terminal.query import query_view  # noqa: PLC0415
    from humble_ledger.workflow.reading.findings import query_findings  # noqa: PLC0415

    found = query_findings(workspace, id_)
    return lambda: query_document(found), lambda: query_view(found, numbers)


def _plan(workspace: Workspace, id_: str, numbers: Numbers) -> Shown:
    from humble_ledger.views.documents.plans import plan_document  # noqa: PLC0415
    from humble_ledger.views.terminal.plans import plan_view  # noqa: PLC0415

    entry = workspace.ledger.plans.get(id_)
    return lambda: plan_document(entry), lambda: plan_view(entry, numbers)


def _symptom(workspace: Workspace, id_: str, numbers: Numbers) -> Shown:
    from humble_ledger.views.documents.symptoms import symptoms_document  # noqa: PLC0415
    from humble_ledger.views.terminal.symptoms import symptom_view  # noqa: PLC0415

    entry = workspace.ledger.symptoms.get(id_)
    return lambda: symptoms_document([entry]), lambda: symptom_view(entry, numbers)


def _remedy(workspace: Workspace, id_: str, numbers: Numbers) -> Shown:
    from humble_ledger.views.documents.remedies import remedies_document  # noqa: PLC0415
    from humble_ledger.views.terminal.remedies import remedy_view  # noqa: PLC0415

    entry = workspace.ledger.remedies.get(id_)
    return lambda: remedies_document([entry]), lambda: remedy_view(entry, numbers)


def _trial(workspace: Workspace, id_: str, numbers: Numbers) -> Shown:
    from humble_ledger.views.documents.trials import trial_document  # noqa: PLC0415
    from humble_ledger.views.terminal.trials import trial_view  # noqa: PLC0415

    ledger = workspace.ledger
    entry = ledger.trials.get(id_)
    remedies = [ledger.remedies.get(r) for r in entry.trial.remedies] if entry.trial else []
    settlements = ledger.trials.settlements(id_)
    return (
        lambda: trial_document(entry),
        lambda: trial_view(entry, remedies, settlements, numbers),
    )


def _replay(workspace: Workspace, id_: str, numbers: Numbers) -> Shown:
    from humble_ledger.views.documents.replays import replay_document  # noqa: PLC0415
    from humble_ledger.views.terminal.replays import replay_view  # noqa: PLC0415

    entry = workspace.ledger.replays.get(id_)
    known = workspace.ledger.remedies
    remedies = [known.get(r) for r in entry.replay.remedies] if entry.replay else []
    return (
        lambda: replay_document(entry),
        lambda: replay_view(entry, remedies, numbers),
    )


def _capture(workspace: Workspace, id_: str, numbers: Numbers) -> Shown:
    from humble_ledger.views.documents.captures import capture_document  # noqa: PLC0415
    from humble_ledger.views.terminal.captures import capture_view  # noqa: PLC0415

    entry = workspace.ledger.captures.get(id_)
    return lambda: capture_document(entry), lambda: capture_view(entry, numbers)


_SHOWN: dict[str, Callable[[Workspace, str, Numbers], Shown]] = {
    "q": _query,
    "p": _plan,
    "s": _symptom,
    "r": _remedy,
    "t": _trial,
    "y": _replay,
    "k": _capture,
}
