"""`humble trial WHAT…`: the before/after experiment."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for
from humble_ledger.core.trials.ratio import MOST_PAIRS


def trial(
    whats: Annotated[
        list[str] | None,
        typer.Argument(
            help="Queries by id, or statements.", metavar="[WHAT]...", show_default=False
        ),
    ] = None,
    remedy: Annotated[
        list[str] | None,
        typer.Option("--remedy", help="A remedy of the ledger, r1; may be repeated."),
    ] = None,
    index: Annotated[
        list[str] | None,
        typer.Option("--index", help='An index as text: "reading (sensor_id)"; repeatable.'),
    ] = None,
    rewrite: Annotated[
        Path | None,
        typer.Option(
            "--rewrite", help="A file with another text for the statement.", metavar="FILE"
        ),
    ] = None,
    settings: Annotated[
        list[str] | None,
        typer.Option(
            "--set", help="A setting for one side, as the server names it.", metavar="NAME=VALUE"
        ),
    ] = None,
    apply: Annotated[
        list[str] | None,
        typer.Option("--apply", help="A statement of your own to try; repeatable.", metavar="SQL"),
    ] = None,
    revert: Annotated[
        list[str] | None,
        typer.Option("--revert", help="What undoes --apply; repeatable.", metavar="SQL"),
    ] = None,
    workload: Annotated[
        bool,
        typer.Option("--workload", help="Also all captured queries that read what it changes."),
    ] = False,
    slowest_only: Annotated[
        bool,
        typer.Option(
            "--slowest-only", help="Each query with the values of its slowest run, and no others."
        ),
    ] = False,
    allow_writes: Annotated[
        bool,
        typer.Option(
            "--allow-writes", help="Also run statements that change data; each is rolled back."
        ),
    ] = False,
    on_production: Annotated[
        bool,
        typer.Option(
            "--on-production", help="Make it on a production server, where no writer may wait."
        ),
    ] = False,
    pairs: Annotated[
        int, typer.Option("--pairs", help="Maximum number of pairs of runs.", min=1, max=400)
    ] = MOST_PAIRS,
    effect: Annotated[
        float,
        typer.Option("--effect", help="The smallest difference that counts, in percent.", min=0.1),
    ] = 5.0,
    require: Annotated[
        str | None,
        typer.Option("--require", help="Exit with 1 unless this is the verdict, e.g. faster."),
    ] = None,
    allow_side_effects: options.AllowSideEffects = None,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Try a change: runs before and after alternate, results are compared, nothing is left.

    The change is made in a transaction that is rolled back. While an index is tried, writers to
    the table wait, at most for the lock timeout: then it is built and dropped online, as it is
    where nobody may wait at all. Readers never wait, and statistics, settings and removals let all
    pass. Each query is run with the values of its slowest run and with usual ones.

    Example: [bold]humble trial q3 --remedy r1[/bold]
    """
    from humble_ledger.core.remedies.asked import Written  # noqa: PLC0415
    from humble_ledger.core.trials.model import Verdict  # noqa: PLC0415
    from humble_ledger.errors import CheckFailed, WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents.trials import trial_document  # noqa: PLC0415
    from humble_ledger.views.terminal.trials import trial_view  # noqa: PLC0415
    from humble_ledger.workflow.reading.subjects import text_of  # noqa: PLC0415
    from humble_ledger.workflow.trying.trial import try_remedies  # noqa: PLC0415

    if require is not None and require not in list(Verdict):
        raise WrongUsage(f'Unknown verdict "{require}".', f"Use one of: {', '.join(Verdict)}")
    with workspace_for(target, timeout, allow_side_effects) as workspace:
        with output.progress() as progress:
            entry = try_remedies(
                workspace,
                whats or (),
                remedies=remedy or (),
                indexes=index or (),
                written=Written(
                    text_of(rewrite) if rewrite is not None else "",
                    tuple(settings or ()),
                    tuple(apply or ()),
                    tuple(revert or ()),
                ),
                workload=workload,
                one_set=slowest_only,
                allow_writes=allow_writes,
                on_production=on_production,
                most_pairs=pairs,
                smallest_effect=effect / 100.0,
                progress=progress,
                announce=output.announce,
            )
        assert entry.trial is not None
        remedies = [workspace.ledger.remedies.get(id_) for id_ in entry.trial.remedies]
        output.give(
            json,
            lambda: trial_document(entry),
            lambda: trial_view(entry, remedies, (), numbers_of(workspace)),
        )
    if require is not None and entry.trial.verdict.value != require:
        raise CheckFailed(
            f"The verdict of {entry.id} is {entry.trial.verdict.value}, not {require}."
        )
