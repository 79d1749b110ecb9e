"""`humble replay`: captured statements sent again by several clients."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def replay(
    queries: Annotated[
        list[str] | None,
        typer.Argument(
            help="Queries by id; without any, all that were captured.",
            metavar="[ID]...",
            show_default=False,
        ),
    ] = None,
    clients: Annotated[
        int, typer.Option("--clients", help="Number of connections.", min=1, max=200)
    ] = 4,
    seconds: Annotated[
        float,
        typer.Option("--seconds", help="How long to go on, besides making a change.", min=1.0),
    ] = 30.0,
    as_captured: Annotated[
        bool,
        typer.Option(
            "--as-captured", help="At the captured moments, session by session; else without pause."
        ),
    ] = False,
    speed: Annotated[
        float, typer.Option("--speed", help="With --as-captured: speed-up factor.", min=0.01)
    ] = 1.0,
    remedy: Annotated[
        list[str] | None,
        typer.Option("--remedy", help="A remedy to put in force midway, r1; may be repeated."),
    ] = None,
    index: Annotated[
        list[str] | None,
        typer.Option("--index", help='An index to build midway: "reading (sensor_id)".'),
    ] = None,
    settings: Annotated[
        list[str] | None,
        typer.Option("--set", help="A setting all clients get midway.", metavar="NAME=VALUE"),
    ] = None,
    apply: Annotated[
        list[str] | None,
        typer.Option("--apply", help="A statement of your own to run midway.", metavar="SQL"),
    ] = None,
    revert: Annotated[
        list[str] | None,
        typer.Option("--revert", help="What undoes --apply at the end.", metavar="SQL"),
    ] = None,
    change_at: Annotated[
        float | None,
        typer.Option("--change-at", help="The second of the change; default: the middle.", min=0.0),
    ] = None,
    seed: Annotated[
        int, typer.Option("--seed", help="Another number draws another order of statements.")
    ] = 1,
    allow_writes: Annotated[
        bool,
        typer.Option(
            "--allow-writes", help="Also send statements that change data; each is rolled back."
        ),
    ] = False,
    on_production: Annotated[
        bool, typer.Option("--on-production", help="Really load a production server.")
    ] = False,
    to: Annotated[
        Path | None,
        typer.Option("--to", help="Draw it second by second into .svg, .png or .pdf."),
    ] = None,
    allow_side_effects: options.AllowSideEffects = None,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Send captured statements again with several clients: throughput and latency over time.

    Named changes are made midway for all sessions, so that the step is seen, and are taken back at
    the end. Each client sends without pause, queries as often as they were captured; or, with
    --as-captured, each session's statements at their moments. Only reads, unless allowed.

    Example: [bold]humble replay --clients 8 --seconds 60 --remedy r1 --to step.svg[/bold]
    """
    from humble_ledger.core.remedies.asked import Written  # noqa: PLC0415
    from humble_ledger.core.replays.model import Rhythm  # noqa: PLC0415
    from humble_ledger.views.documents.replays import replay_document  # noqa: PLC0415
    from humble_ledger.views.terminal.replays import replay_view  # noqa: PLC0415
    from humble_ledger.workflow.replaying.replay import Asked  # noqa: PLC0415
    from humble_ledger.workflow.replaying.replay import replay as play  # noqa: PLC0415

    asked = Asked(
        Rhythm.CAPTURED if as_captured else Rhythm.CLOSED,
        clients,
        seconds,
        speed,
        change_at,
        seed,
        allow_writes,
        on_production,
    )
    with workspace_for(target, timeout, allow_side_effects) as workspace:
        with output.progress() as progress:
            entry = play(
                workspace,
                queries or (),
                asked,
                remedies=remedy or (),
                indexes=index or (),
                written=Written(
                    settings=tuple(settings or ()),
                    applies=tuple(apply or ()),
                    reverts=tuple(revert or ()),
                ),
                progress=progress,
                announce=output.announce,
            )
        assert entry.replay is not None
        if to is not None:
            from humble_ledger.cli.drawing import drawn  # noqa: PLC0415
            from humble_ledger.views.figures.replay_figure import draw_replay  # noqa: PLC0415

            found = entry.replay
            drawn(to, lambda: draw_replay(found, to))
        remedies = [workspace.ledger.remedies.get(id_) for id_ in entry.replay.remedies]
        output.give(
            json,
            lambda: replay_document(entry),
            lambda: replay_view(entry, remedies, numbers_of(workspace)),
        )
        if to is not None and not json:
            output.show(f"figure  {to}")
