"""`humble audit`: whether what was settled holds."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def audit(
    fail_on: Annotated[
        str,
        typer.Option(
            "--fail-on",
            help="End with 1 for these findings, by commas: promise, slower, flipped, new, unused, "
            "stale, faster; or any, or none.",
            metavar="KINDS",
        ),
    ] = "promise",
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Tell what is no longer as the ledger has it: on the target, and in the last capture.

    Do the promises of kept trials hold? What is slower or faster than in the captures before,
    beyond what it varies by? Which plans are others, and why? Which kept index does nobody use?
    Plans are only read.

    Example: [bold]humble audit --target production --fail-on promise,slower[/bold]
    """
    from humble_ledger.core.audits.findings import AUDITED, Kind  # noqa: PLC0415
    from humble_ledger.errors import CheckFailed, WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents.audits import audit_document  # noqa: PLC0415
    from humble_ledger.views.terminal.audits import audit_view  # noqa: PLC0415
    from humble_ledger.workflow.auditing.audit import audit as look  # noqa: PLC0415

    words = {each.strip() for each in fail_on.split(",")} - {"", "none"}
    unknown = words - {*AUDITED, "any"}
    if unknown:
        raise WrongUsage(
            f'Unknown kind of finding "{sorted(unknown)[0]}".',
            f"Use some of: {', '.join(AUDITED)}; or any, or none",
        )
    kinds = frozenset(AUDITED) if "any" in words else frozenset(Kind(word) for word in words)
    with workspace_for(target) as workspace:
        with output.progress() as progress:
            found = look(workspace, progress)
        output.give(
            json,
            lambda: audit_document(found),
            lambda: audit_view(found, numbers_of(workspace)),
        )
    failing = found.failing(kinds)
    if failing:
        more = f" and {len(failing) - 4} more" if len(failing) > 4 else ""
        raise CheckFailed(f"Not as the ledger has it: {', '.join(failing[:4])}{more}.")
