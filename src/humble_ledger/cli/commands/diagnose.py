"""`humble diagnose [WHAT…]`: symptoms with evidence and cause."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for

Everything = Annotated[
    bool, typer.Option("--all", help="Show also what wastes less than 1 % of the captured time.")
]
Schema = Annotated[
    bool, typer.Option("--schema", help="Only the schema: indexes, foreign keys, statistics.")
]
Verbose = Annotated[
    bool, typer.Option("--verbose", help="Tell how often the planner was asked, and how long.")
]


def diagnose(
    whats: options.Whats = None,
    measure: options.Measure = False,
    allow_writes: options.AllowWrites = False,
    everything: Everything = False,
    schema: Schema = False,
    verbose: Verbose = False,
    allow_side_effects: options.AllowSideEffects = None,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Find what costs time in plans, in how statements are sent, and in the schema; and why.

    Uses the newest measured plan of each query, else its estimate; --measure runs it. Without
    a WHAT it judges all captured queries, the workload as a whole, and the schema.

    Example: [bold]humble diagnose q3 --measure[/bold]
    """
    from humble_ledger.views.documents.symptoms import diagnoses_document  # noqa: PLC0415
    from humble_ledger.views.terminal.symptoms import diagnoses_view  # noqa: PLC0415
    from humble_ledger.workflow.diagnosing.everything import diagnose as find  # noqa: PLC0415
    from humble_ledger.workflow.diagnosing.everything import diagnose_schema  # noqa: PLC0415

    workspace = workspace_for(target, timeout, allow_side_effects)
    with workspace, output.progress() as progress:
        if schema:
            found = diagnose_schema(workspace)
        else:
            found = find(
                workspace, whats or (), measure=measure, allow_writes=allow_writes,
                progress=progress,
            )  # fmt: skip
    output.give(
        json,
        lambda: diagnoses_document(found),
        lambda: diagnoses_view(found, numbers_of(workspace), everything, verbose),
    )
