"""`humble propose [WHAT…]`: indexes that should help, with predictions."""

from __future__ import annotations

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def propose(
    whats: options.Whats = None,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Propose indexes, each with the cost it should bring and its size; builds nothing.

    Example: [bold]humble propose q3[/bold]
    """
    from humble_ledger.views.documents.remedies import remedies_document  # noqa: PLC0415
    from humble_ledger.views.terminal.remedies import remedies_view  # noqa: PLC0415
    from humble_ledger.workflow.proposing import propose as find  # noqa: PLC0415

    with workspace_for(target, timeout) as workspace, output.progress() as progress:
        entries = find(workspace, whats or (), progress)
    output.give(
        json,
        lambda: remedies_document(entries),
        lambda: remedies_view(entries, numbers_of(workspace)),
    )
