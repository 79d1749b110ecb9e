"""See `engines.contract.plans.PlanFormat`: our own document of a plan, and the library's tree."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import msgspec

from humble_ledger.core.costs.contract import CostModel
from humble_ledger.core.plans.model import Conditions, Cost, Elapsed, Node, Operation, Plan, Role
from humble_ledger.core.remedies.candidates.model import Access, Candidate
from humble_ledger.core.schema.facts import ServerFacts
from humble_ledger.core.statements.masking import masked
from humble_ledger.core.symptoms.case import Rule
from humble_ledger.engines.contract import Reading
from humble_ledger.engines.sqlite.costs import SqliteCosts
from humble_ledger.errors import UnreadableInput

ENGINE = "sqlite"
MOST_BYTES = 16 * 1024**2
_DEEPEST = 200
_TREE = re.compile(r"^(?P<rails>(?:\|  |   )*)(?:\|--|`--)(?P<words>.+)$")
_HEAD = "QUERY PLAN"


class SqlitePlans(Reading):
    """Plans of SQLite, as we keep them."""

    engine = ENGINE
    most_bytes = MOST_BYTES

    @property
    def rules(self) -> Sequence[Rule]:  # type: ignore[override]
        """What only its plans have; they are loaded when a plan is judged."""
        from humble_ledger.engines.sqlite.symptoms import RULES  # noqa: PLC0415

        return RULES

    def candidates(self, access: Access) -> Iterable[Candidate]:
        """Those sorted in the order of a pattern or of a comparison."""
        from humble_ledger.engines.sqlite.candidates import in_another_order  # noqa: PLC0415

        return in_another_order(access)

    def looks_like(self, text: str) -> bool:
        """Whether a text is a listing that was saved, or a document of ours."""
        start = text.lstrip()[:200]
        return start.startswith(_HEAD) or (start.startswith("{") and '"sqlite_plan"' in start)

    def document(self, text: str) -> object:
        """The document of a saved plan."""
        if text.lstrip().startswith("{"):
            try:
                return msgspec.json.decode(text)
            except msgspec.DecodeError as error:
                raise UnreadableInput(f"This is no whole document: {error}.") from error
        # Reading a listing takes the parser of statements, which takes long to load.
        from humble_ledger.engines.sqlite.plans.saved import document_of_tree  # noqa: PLC0415

        return document_of_tree(_rows_of(text))

    def read(self, document: object, version: str = "") -> Plan:
        """The plan in a document of ours."""
        if not isinstance(document, Mapping) or not isinstance(document.get("root"), Mapping):
            raise UnreadableInput("This is no plan of SQLite.", 'It should have "root".')
        measured = document.get("measured")
        numbers = iter(range(1, 1_000_000))
        known = bool(document.get("costs", True))
        try:
            root = _node(document["root"], numbers, measured, known, 0)
        except (KeyError, TypeError, ValueError) as error:
            raise UnreadableInput(f"This plan of SQLite is not whole: {error}.") from error
        return Plan(
            ENGINE,
            version or str(document.get("version", "")),
            root,
            isinstance(measured, Mapping),
            execution_ms=float(measured["ms"]) if isinstance(measured, Mapping) else None,
            planning_ms=document.get("planning_ms"),
            own_estimates=True,
            details={"listing": [str(line) for line in document.get("listing", ())]},
        )

    def masked(self, document: object) -> object:
        """The document without the literals in its conditions."""
        return _masked(document)

    def costs(self, server: ServerFacts) -> CostModel:
        """Our own formulas."""
        return SqliteCosts()

    def logged(self, document: object | None, text: str, took_ms: float) -> object:
        """SQLite writes no plans into a log."""
        raise UnreadableInput("SQLite writes no plans into a log.")

    def shape(self, document: object | None, text: str) -> tuple[str, ...]:
        """The lines of the listing."""
        listing = document.get("listing", ()) if isinstance(document, Mapping) else ()
        return tuple(str(line) for line in listing)


def _node(draft: Any, numbers: Any, measured: Any, known: bool, depth: int) -> Node:
    if depth > _DEEPEST:
        raise ValueError(f"more than {_DEEPEST} steps below each other")
    top = depth == 0 and isinstance(measured, Mapping)
    number = next(numbers)
    children = tuple(_node(each, numbers, measured, known, depth + 1) for each in draft["children"])
    return Node(
        number,
        Operation(draft["operation"]),
        str(draft["label"]),
        role=Role(draft["role"]),
        relation=str(draft.get("relation", "")),
        alias=str(draft.get("alias", "")),
        index=str(draft.get("index", "")),
        subplan_name=str(draft.get("subplan", "")),
        join_type=str(draft.get("join_type", "")),
        cost=Cost(float(draft.get("startup", 0.0)), float(draft["cost"])) if known else None,
        rows_expected=float(draft["rows"]) if known else None,
        rows_seen=float(measured["rows"]) if top else None,
        loops=1.0 if top else None,
        elapsed=Elapsed(float(measured["first_ms"]), float(measured["ms"])) if top else None,
        conditions=Conditions(
            search=_texts(draft, "search"),
            filter=_texts(draft, "filter"),
            join=_texts(draft, "join"),
        ),
        sort_keys=_texts(draft, "sort"),
        presorted_keys=_texts(draft, "presorted"),
        group_keys=_texts(draft, "group"),
        output=_texts(draft, "output"),
        by_hash=bool(draft.get("by_hash", False)),
        details=dict(measured["work"]) if top else {},
        children=children,
    )


def _texts(draft: Any, name: str) -> tuple[str, ...]:
    return tuple(str(each) for each in draft.get(name, ()))


_LISTS = frozenset(("search", "filter", "join", "sort", "presorted", "group", "output"))


def _masked(part: Any) -> Any:
    if isinstance(part, Mapping):
        return {
            key: [masked(str(text)) for text in value] if key in _LISTS else _masked(value)
            for key, value in part.items()
        }
    if isinstance(part, list):
        return [_masked(each) for each in part]
    return part


def _rows_of(text: str) -> Sequence[tuple[int, int, int, str]]:
    """The rows of a listing that was drawn as a tree.

    Raises:
        UnreadableInput: a line is none of such a tree.
    """
    rows: list[tuple[int, int, int, str]] = []
    above: list[int] = [0]
    for number, line in enumerate(text.strip().splitlines()[1:], 1):
        if not line.strip():
            continue
        found = _TREE.match(line.rstrip())
        if found is None:
            raise UnreadableInput(
                f'Line {number + 1} is no part of a query plan: "{line.strip()[:60]}".',
                "Each begins with |-- or `-- behind the lines of those above it.",
            )
        depth = len(found["rails"]) // 3
        above = above[: depth + 1]
        rows.append((number, above[-1], 0, found["words"]))
        above.append(number)
    if not rows:
        raise UnreadableInput("There is no step in this plan.")
    return rows
