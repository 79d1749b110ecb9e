"""See `engines.contract.plans.PlanFormat`."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from itertools import islice
from typing import Any

from humble_ledger.core.costs.contract import CostModel
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.schema.facts import ServerFacts
from humble_ledger.engines.contract import Reading, SavedPlan
from humble_ledger.engines.postgresql.costs.scans import PostgresCosts
from humble_ledger.engines.postgresql.plans.limits import MOST_BYTES
from humble_ledger.engines.postgresql.plans.masking import masked_document
from humble_ledger.engines.postgresql.plans.reader import ENGINE, read_plan
from humble_ledger.engines.postgresql.plans.saved import document_of, looks_like_plan
from humble_ledger.engines.postgresql.plans.text import document_of_text

_STEP = re.compile(r"^ *(?:->  )?(\S.*?)  \(cost=", re.MULTILINE)
_SHAPING = ("Node Type", "Relation Name", "Index Name", "Join Type", "Subplan Name")
_MOST_STEPS = 10_000  # that tell two plans apart


class PostgresPlans(Reading):
    """Plans as PostgreSQL writes them."""

    engine = ENGINE
    most_bytes = MOST_BYTES

    def looks_like(self, text: str) -> bool:
        """Whether a text is more likely a saved plan than SQL."""
        return looks_like_plan(text)

    def document(self, text: str) -> object:
        """The document of a plan saved as JSON, text, YAML or XML."""
        found: object = document_of(text)
        return found

    def read(self, document: object, version: str = "") -> Plan:
        """The plan in a document."""
        return read_plan(document, version)

    def plans_in(self, document: object) -> Sequence[SavedPlan]:
        """The one plan of a document."""
        return (SavedPlan(self.read(document), _statement(document)),)

    def masked(self, document: object) -> object:
        """The document without literals."""
        found: object = masked_document(document)
        return found

    def costs(self, server: ServerFacts) -> CostModel:
        """The published formulas."""
        return PostgresCosts(server)

    def logged(self, document: object | None, text: str, took_ms: float) -> object:
        """The document of a logged plan; the log tells the whole time beside the plan."""
        found = document if isinstance(document, Mapping) else document_of_text(text)
        return {**found, "Execution Time": took_ms}

    def shape(self, document: object | None, text: str) -> tuple[str, ...]:
        """The steps of a logged plan, and what they read."""
        if isinstance(document, Mapping):
            return tuple(islice(_steps(document["Plan"]), _MOST_STEPS))
        return tuple(_STEP.findall(text))


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


def _statement(document: object) -> str:
    """The statement that the plan logger writes beside a plan."""
    found = document[0] if isinstance(document, list) and document else document
    text = found.get("Query Text", "") if isinstance(found, Mapping) else ""
    return text if isinstance(text, str) else ""
