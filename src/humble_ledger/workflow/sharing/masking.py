"""Records of a bundle without the literals of statements."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from msgspec.structs import replace

from humble_ledger.core.remedies.masking import masked_remedy
from humble_ledger.core.statements.masking import masked, masked_error
from humble_ledger.engines.registry import plans_of_any
from humble_ledger.ledger.bundles import records as r
from humble_ledger.workflow.reporting.masking import masked_symptom, masked_trial


def masked_record(name: str, record: Any) -> Any | None:
    """A record of which no literal is left; None for one that would be nothing else."""
    made = _MASKED.get(name)
    return record if made is None else made(record)


def _plan(record: r.PlanRecord) -> r.PlanRecord:
    form = plans_of_any(record.plan.engine)
    document = form.masked(record.document)
    return replace(
        record,
        statement=masked(record.statement),
        parameters=[],
        document=document,
        plan=form.read(document, record.plan.engine_version),
    )


def _capture(record: r.CaptureRecord) -> r.CaptureRecord:
    told = {**record.told, "first_unreadable": ""}
    told["notes"] = [masked_error(str(each)) for each in told.get("notes", ())]
    return replace(record, told=told)


_MASKED: dict[str, Callable[[Any], Any | None]] = {
    "captures": _capture,
    "plans": _plan,
    "runs": lambda record: None,
    "tags": lambda record: None,  # a value may be anything, a path with ids in it
    "senders": lambda record: replace(record, route=""),
    "symptoms": lambda record: replace(record, symptom=masked_symptom(record.symptom)),
    "remedies": lambda record: replace(record, remedy=masked_remedy(record.remedy)),
    "trials": lambda record: replace(
        record, trial=None if record.trial is None else masked_trial(record.trial)
    ),
    "replays": lambda record: None if record.replay is None or record.replay.errors else record,
    "incidents": lambda record: replace(record, detail=masked_error(record.detail)),
}
