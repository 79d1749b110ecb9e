"""`humble diagnose [WHAT…]`: symptoms with evidence and cause."""

from __future__ import annotations

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def diagnose(
    whats: options.Whats = None,
    measure: options.Measure = False,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Find what costs time in a plan, and why.

    Uses the newest measured plan of each query, else its estimate; --measure runs it.

    Example: [bold]humble diagnose q3 --measure[/bold]
    """
    from humble_ledger.views.documents.findings import symptoms_document  # noqa: PLC0415
    from humble_ledger.views.terminal.findings import symptoms_view  # noqa: PLC0415
    from humble_ledger.workflow.diagnosing import diagnose as find  # noqa: PLC0415

    with workspace_for(target, timeout) as workspace, output.progress() as progress:
        found = find(workspace, whats or (), measure=measure, progress=progress)
    output.give(
        json,
        lambda: symptoms_document(entry for _, entries in found for entry in entries),
        lambda: symptoms_view(found, numbers_of(workspace)),
    )
