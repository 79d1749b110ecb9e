"""The whole audit: what was promised, drifted and turned, and what the catalogue tells."""

from __future__ import annotations

from humble_ledger.core.audits.findings import Audit
from humble_ledger.workflow.auditing.catalogue import told_by_catalogue
from humble_ledger.workflow.auditing.drifts import drifted
from humble_ledger.workflow.auditing.promises import promises_today
from humble_ledger.workflow.auditing.turned_plans import turned_plans
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.ranking import captured_queries
from humble_ledger.workflow.trying.checked_predictions import checked_predictions
from humble_ledger.workflow.workspace import Workspace


def audit(workspace: Workspace, progress: Progress = lambda _: None, recent: int = 1) -> Audit:
    """Hold the target and the last captures against the ledger; plans are read, nothing is run."""
    workspace.require_ledger()
    promises = promises_today(workspace, progress)
    progress("holding the last capture against those before")
    findings, nothing_to_compare = drifted(workspace, recent)
    turned, failed = turned_plans(workspace, captured_queries(workspace), progress)
    progress("looking at the catalogue")
    told = told_by_catalogue(workspace)
    left = [nothing_to_compare] if nothing_to_compare else []
    return Audit(
        tuple(promises),
        (*findings, *turned, *told),
        checked_predictions(workspace),
        (*left, *failed),
    )
