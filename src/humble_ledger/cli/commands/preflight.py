"""`humble preflight`: what this server lets us see."""

from __future__ import annotations

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import workspace_for


def preflight(target: options.Target = None, json: options.Json = False) -> None:
    """Tell what this server lets us see, what is off, and the statements that switch it on.

    Nothing is changed: the statements are for you to run.

    Example: [bold]humble preflight[/bold]
    """
    from humble_ledger.views.documents.targets import preflight_document  # noqa: PLC0415
    from humble_ledger.views.terminal.preflight import preflight_view  # noqa: PLC0415

    with workspace_for(target) as workspace:
        server, found = workspace.session.server, workspace.session.preflight()
    output.give(json, lambda: preflight_document(found), lambda: preflight_view(server, found))
