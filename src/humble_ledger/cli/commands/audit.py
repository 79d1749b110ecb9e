"""`humble audit`: whether what was settled holds."""

from __future__ import annotations

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def audit(target: options.Target = None, json: options.Json = False) -> None:
    """Tell whether what settled trials promised holds on the target today.

    Is the change there, does the plan use it, does the query still cost what the trial found? Plans
    are only read. Ends with 1 when a promise is broken.

    Example: [bold]humble audit --target production[/bold]
    """
    from humble_ledger.core.audits.promises import BROKEN  # noqa: PLC0415
    from humble_ledger.errors import CheckFailed  # noqa: PLC0415
    from humble_ledger.views.documents.audits import audit_document  # noqa: PLC0415
    from humble_ledger.views.terminal.audits import audit_view  # noqa: PLC0415
    from humble_ledger.workflow.settling.auditing import audit as look  # noqa: PLC0415

    with workspace_for(target) as workspace:
        with output.progress() as progress:
            found = look(workspace, progress)
        output.give(
            json,
            lambda: audit_document(found),
            lambda: audit_view(found, numbers_of(workspace)),
        )
    broken = [each for each in found if each.standing in BROKEN]
    if broken:
        listed = ", ".join(f"{b.promise.trial} for {b.promise.query}" for b in broken)
        raise CheckFailed(f"{len(broken)} of {len(found)} promises do not hold: {listed}.")
