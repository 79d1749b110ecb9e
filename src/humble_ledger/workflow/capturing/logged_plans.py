"""Plans of a log: of each query the slowest execution of each shape is kept."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.capture.assembly import PlanSeen
from humble_ledger.engines.contract import PlanFormat
from humble_ledger.engines.registry import plans_of
from humble_ledger.errors import UnreadableInput
from humble_ledger.ledger.captures import CaptureWriter
from humble_ledger.workflow.workspace import Workspace

MOST_SHAPES = 5
MOST_QUERIES = 2000
ORIGIN = "log"


class BestPlans:
    """Takes every plan of a log and remembers few; `keep` puts those into the ledger."""

    def __init__(self, mask: bool) -> None:
        self.seen = 0
        self._mask = mask
        self._best: dict[int, dict[int, PlanSeen]] = {}

    def saw(self, plan: PlanSeen) -> None:
        """A plan with its duration."""
        self.seen += 1
        if plan.group not in self._best and len(self._best) >= MOST_QUERIES:
            return
        shapes = self._best.setdefault(plan.group, {})
        shape = hash(_format_of(plan).shape(plan.plan.document, plan.plan.text))
        known = shapes.get(shape)
        if known is None and len(shapes) >= MOST_SHAPES:
            return
        if known is None or known.duration_ms < plan.duration_ms:
            shapes[shape] = plan

    def all(self) -> list[PlanSeen]:
        """Those that are remembered."""
        return [plan for shapes in self._best.values() for plan in shapes.values()]

    def add(self, plans: Sequence[PlanSeen], seen: int, group: Sequence[int]) -> None:
        """Plans that were remembered elsewhere, of ``seen``; ``group`` numbers them as here."""
        for plan in plans:
            self.saw(PlanSeen(group[plan.group], plan.plan, plan.duration_ms))
        self.seen += seen - len(plans)

    def keep(self, workspace: Workspace, writer: CaptureWriter) -> None:
        """Put what was remembered into the ledger, the quickest of a query first."""
        for group, shapes in self._best.items():
            if not writer.knows(group):
                continue
            for plan in sorted(shapes.values(), key=lambda each: each.duration_ms):
                self._keep_one(workspace, writer.query(group), plan)
        self._best.clear()

    def _keep_one(self, workspace: Workspace, query: str, seen: PlanSeen) -> None:
        # A parser of SQL comes with it, and most logs have no plans.
        from humble_ledger.workflow.reading.plans import keep_plan  # noqa: PLC0415

        logged = seen.plan
        try:
            form = _format_of(seen)
            document = form.logged(logged.document, logged.text, seen.duration_ms)
            plan = form.read(document)
        except UnreadableInput:
            return  # torn; its run was counted all the same
        keep_plan(
            workspace,
            logged.statement,
            plan,
            document,
            query=query,
            origin=ORIGIN,
            mask=self._mask,
        )


def _format_of(seen: PlanSeen) -> PlanFormat:
    """Of the server that its document names; of PostgreSQL, whose plans name none."""
    document = seen.plan.document
    named = document.get("engine") if document is not None else None
    return plans_of(str(named) if named else "postgresql")
