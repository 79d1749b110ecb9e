"""Plans of a log: of each query the slowest execution of each shape is kept."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from itertools import islice
from typing import Any

from humble_ledger.capture.assembly import PlanSeen
from humble_ledger.engines.postgresql.plan_reader import read_plan
from humble_ledger.engines.postgresql.plan_text import document_of_text
from humble_ledger.errors import UnreadableInput
from humble_ledger.ledger.captures import CaptureWriter
from humble_ledger.workflow.workspace import Workspace

MOST_SHAPES = 5
MOST_STEPS = 10_000  # that tell two plans apart
MOST_QUERIES = 2000
ORIGIN = "log"
_STEP = re.compile(r"^ *(?:->  )?(\S.*?)  \(cost=", re.MULTILINE)
_SHAPING = ("Node Type", "Relation Name", "Index Name", "Join Type", "Subplan Name")


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
        shape = hash(_shape(plan))
        known = shapes.get(shape)
        if known is None and len(shapes) >= MOST_SHAPES:
            return
        if known is None or known.duration_ms < plan.duration_ms:
            shapes[shape] = plan

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
        from humble_ledger.workflow.reading import keep_plan  # noqa: PLC0415

        logged = seen.plan
        try:
            document = logged.document or document_of_text(logged.text)
            # The log tells the whole time beside the plan, not in it.
            document = {**document, "Execution Time": seen.duration_ms}
            plan = read_plan(document, "")
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


def _shape(seen: PlanSeen) -> tuple[str, ...]:
    """What tells plans of one statement apart, without reading them whole."""
    document = seen.plan.document
    if isinstance(document, Mapping):
        return tuple(islice(_steps(document["Plan"]), MOST_STEPS))
    return tuple(_STEP.findall(seen.plan.text))


def _steps(root: Any) -> Iterator[str]:
    """Each step from the top on, however deep they are nested."""
    open_ = [root]
    while open_:
        node = open_.pop()
        if not isinstance(node, Mapping):
            continue  # no server writes this; reading it will say so
        yield "|".join(str(node.get(name, "")) for name in _SHAPING)
        children = node.get("Plans")
        open_ += reversed(children) if isinstance(children, list) else ()
