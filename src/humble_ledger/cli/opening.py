"""Opening the workspace of a command, and the style of its numbers."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from humble_ledger.cli.options import DEFAULT_TIMEOUT

if TYPE_CHECKING:
    from humble_ledger.views.numbers import Numbers
    from humble_ledger.workflow.workspace import Workspace


def workspace_for(
    target: str | None = None,
    timeout_s: float = DEFAULT_TIMEOUT,
    may_call: Sequence[str] | None = None,
) -> Workspace:
    """The workspace of this folder.

    ``may_call`` are the functions that may act outside of a transaction, as the user named them.
    """
    from humble_ledger.engines.contract import Limits  # noqa: PLC0415
    from humble_ledger.workflow.workspace import Workspace  # noqa: PLC0415

    named = {name.strip().lower() for each in may_call or () for name in each.split(",")}
    limits = Limits(statement_ms=round(timeout_s * 1000), may_call=frozenset(named - {""}))
    return Workspace.find(target=target, limits=limits)


def numbers_of(workspace: Workspace) -> Numbers:
    """How this folder's `humble.toml` wants numbers written."""
    from humble_ledger.views.numbers import Numbers  # noqa: PLC0415

    return Numbers(workspace.configuration.number_style)
