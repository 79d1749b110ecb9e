"""Plans in our own open document, of whichever server: see `core.plans.open_document`."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from humble_ledger.core.plans.open_document import looks_open, plan_in, statement_in
from humble_ledger.core.statements.masking import masked as without_literals
from humble_ledger.core.symptoms.case import Rule
from humble_ledger.engines.contract import Reading, SavedPlan
from humble_ledger.engines.elsewhere.json_text import decoded
from humble_ledger.errors import UnreadableInput

_SAVING = "What it must have stands in docs/formats/plan.md."
_KIND = re.compile(r'"kind"\s*:\s*"plan"')
_CONDITIONS = frozenset(
    "search filter join recheck sort_keys presorted_keys group_keys output condition".split()
)
_SERVERS_OWN = frozenset(("own_words", "remarks", "planner_calls"))


class OpenPlans(Reading):
    """Plan documents; the plan in one bears the name of its own server."""

    engine = "plan document"

    @property
    def rules(self) -> Sequence[Rule]:  # type: ignore[override]
        """What a plan shows by itself: its server may be any."""
        from humble_ledger.engines.elsewhere.findings import RULES  # noqa: PLC0415

        return RULES

    def looks_like(self, text: str) -> bool:
        """Whether a text says so of itself."""
        return text.lstrip()[:1] == "{" and '"root"' in text and _KIND.search(text) is not None

    def document(self, text: str) -> object:
        """The JSON in a text."""
        return decoded(text, _SAVING)

    def plans_in(self, document: object) -> Sequence[SavedPlan]:
        """The one plan of a document."""
        if not looks_open(document):
            raise UnreadableInput('This is no plan document: its "kind" should be "plan".', _SAVING)
        try:
            plan = plan_in(document)
        except (ValueError, TypeError, KeyError, RecursionError) as error:
            raise UnreadableInput(
                f"This plan document cannot be read: {error}.", _SAVING
            ) from error
        return (SavedPlan(plan, statement_in(document)),)

    def masked(self, document: object) -> object:
        """The document without literals, and without what its server said in its own words."""
        return _masked(document)


def _masked(part: Any, key: str = "") -> Any:
    if isinstance(part, Mapping):
        kept = {name: value for name, value in part.items() if name not in _SERVERS_OWN}
        return {name: _masked(value, str(name)) for name, value in kept.items()}
    if isinstance(part, list):
        return [_masked(each, key) for each in part]
    if isinstance(part, str) and (key in _CONDITIONS or key == "statement"):
        return without_literals(part)
    return part
