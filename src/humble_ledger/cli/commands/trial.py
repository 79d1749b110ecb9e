"""`humble trial WHAT…`: the before/after experiment."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for
from humble_ledger.core.trials.ratio import MOST_PAIRS


def trial(
    whats: Annotated[
        list[str],
        typer.Argument(help="Queries by id, or statements.", metavar="WHAT...", show_default=False),
    ],
    remedy: Annotated[
        list[str] | None,
        typer.Option("--remedy", help="A remedy of the ledger, r1; may be repeated."),
    ] = None,
    index: Annotated[
        list[str] | None,
        typer.Option("--index", help='An index as text: "reading (sensor_id)"; repeatable.'),
    ] = None,
    pairs: Annotated[
        int, typer.Option("--pairs", help="At most so many pairs of runs.", min=1, max=400)
    ] = MOST_PAIRS,
    effect: Annotated[
        float,
        typer.Option("--effect", help="The smallest difference that counts, in percent.", min=0.1),
    ] = 5.0,
    require: Annotated[
        str | None,
        typer.Option("--require", help="Exit with 1 unless this is the verdict, e.g. faster."),
    ] = None,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Try a change: runs before and after alternate, results are compared, nothing is left.

    The change is made in a transaction that is rolled back. While an index is tried, writers to
    the table wait, readers do not; statistics and settings let both pass.

    Example: [bold]humble trial q3 --remedy r1[/bold]
    """
    from humble_ledger.core.trials.model import Verdict  # noqa: PLC0415
    from humble_ledger.errors import CheckFailed, WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents.trials import trial_document  # noqa: PLC0415
    from humble_ledger.views.terminal.trials import trial_view  # noqa: PLC0415
    from humble_ledger.workflow.trying import try_remedies  # noqa: PLC0415

    if require is not None and require not in list(Verdict):
        raise WrongUsage(f"«{require}» is no verdict.", f"Say one of: {', '.join(Verdict)}")
    with workspace_for(target, timeout) as workspace:
        with output.progress() as progress:
            entry = try_remedies(
                workspace,
                whats,
                remedies=remedy or (),
                indexes=index or (),
                most_pairs=pairs,
                smallest_effect=effect / 100.0,
                progress=progress,
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
