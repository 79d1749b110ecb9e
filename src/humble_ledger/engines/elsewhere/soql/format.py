"""The answer of a hosted object database's REST interface when it is asked to explain a query.

By the documentation of its query resource with ``explain``; not tried on a real server. It is no
plan but a list of the routes that the optimizer considered: the kind of the leading step, the
records expected, a relative cost (below 1 the route counts as selective), and notes.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from humble_ledger.core.plans.model import Operation, Plan
from humble_ledger.core.symptoms.case import Rule
from humble_ledger.engines.contract import Reading, SavedPlan
from humble_ledger.engines.elsewhere.drafts import Draft, assembled
from humble_ledger.engines.elsewhere.json_text import children_of, decoded, number, texts
from humble_ledger.errors import UnreadableInput

ENGINE = "soql"
_SAVING = "Save what the query resource answers when it is asked with  explain."
_LEADING = {
    "Index": Operation.INDEX_SCAN,
    "Sharing": Operation.INDEX_SCAN,
    "TableScan": Operation.FULL_SCAN,
}
_LABELS = {"Index": "Index", "Sharing": "Sharing rules", "TableScan": "Table Scan"}
_PLACED = frozenset(
    """cardinality fields leadingOperationType notes relativeCost sobjectCardinality
    sobjectType""".split()
)
_SELECTIVE = 1.0


class SoqlPlans(Reading):
    """Lists of routes; each is read as a plan of one step.

    `lists_routes` tells that the plans of a document are such routes of one statement.
    """

    engine = ENGINE
    rests_on = "the documentation of the query resource; not tried on a real server"
    lists_routes = True

    @property
    def rules(self) -> Sequence[Rule]:  # type: ignore[override]
        """What a plan shows by itself."""
        from humble_ledger.engines.elsewhere.soql.findings import OWN_RULES  # noqa: PLC0415

        return OWN_RULES

    def looks_like(self, text: str) -> bool:
        """Whether a text has the keys of such an answer."""
        start = text[:50_000]
        return '"leadingOperationType"' in start and '"relativeCost"' in start

    def document(self, text: str) -> object:
        """The JSON in a text."""
        return decoded(text, _SAVING)

    def plans_in(self, document: object) -> Sequence[SavedPlan]:
        """Each route, the cheapest first."""
        top = document if isinstance(document, Mapping) else {"plans": document}
        found = children_of(top, "plans", "$")
        if not found:
            raise UnreadableInput("This answer names no route.", _SAVING)
        query = str(top.get("sourceQuery") or "")
        plans = [SavedPlan(_route(raw, place), query) for raw, place in found]
        return sorted(plans, key=lambda each: each.plan.cost_total or 0.0)

    def masked(self, document: object) -> object:
        """The answer without the query, whose values may stand in it."""
        if not isinstance(document, Mapping):
            return document
        return {key: value for key, value in document.items() if key != "sourceQuery"}


def _route(raw: Mapping[str, Any], place: str) -> Plan:
    kind = str(raw.get("leadingOperationType", ""))
    cost = number(raw.get("relativeCost"))
    if cost is None or cost < 0 or not kind:
        raise UnreadableInput(
            f"The route at {place} has no leadingOperationType with its relativeCost.", _SAVING
        )
    draft = Draft(
        _LEADING.get(kind, Operation.OTHER),
        _LABELS.get(kind, kind),
        rows=number(raw.get("cardinality")),
        cost=cost,
        details={key: value for key, value in raw.items() if key not in _PLACED},
    )
    draft.more["relation"] = str(raw.get("sobjectType") or "")
    fields = texts(raw.get("fields"))
    if fields and kind != "TableScan":
        draft.more["index"] = ", ".join(fields)
    all_of_them = number(raw.get("sobjectCardinality"))
    if all_of_them is not None:
        draft.remarks.append(f"of about {all_of_them:,.0f} records (estimated)")
    draft.remarks.append(
        "selective: its relative cost is below 1"
        if cost < _SELECTIVE
        else "not selective: its relative cost is 1 or more"
    )
    for note, _ in children_of(raw, "notes", place):
        about = ", ".join(texts(note.get("fields")))
        said = str(note.get("description") or "").strip()
        if said:
            draft.remarks.append(f"{said}: {about}" if about else said)
    return Plan(ENGINE, "", assembled(draft, measured=False), measured=False)
