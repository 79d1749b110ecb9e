"""Opening the workspace of a command, and the style of its numbers."""

from __future__ import annotations

from typing import TYPE_CHECKING

from humble_ledger.cli.options import DEFAULT_TIMEOUT

if TYPE_CHECKING:
    from humble_ledger.views.numbers import Numbers
    from humble_ledger.workflow.workspace import Workspace


def workspace_for(target: str | None = None, timeout_s: float = DEFAULT_TIMEOUT) -> Workspace:
    """The workspace of this folder."""
    from humble_ledger.engines.contract import Limits  # noqa: PLC0415
    from humble_ledger.workflow.workspace import Workspace  # noqa: PLC0415

    return Workspace.find(target=target, limits=Limits(statement_ms=round(timeout_s * 1000)))


def numbers_of(workspace: Workspace) -> Numbers:
    """How this folder's `humble.toml` wants numbers written."""
    from humble_ledger.views.numbers import Numbers  # noqa: PLC0415

    return Numbers(workspace.configuration.number_style)
