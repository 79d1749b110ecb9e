"""See `engines.contract.plans.PlanFormat`: every form in which both members write plans."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from humble_ledger.core.costs.contract import CostModel
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.schema.facts import ServerFacts
from humble_ledger.core.symptoms.case import Rule
from humble_ledger.engines.contract import Reading
from humble_ledger.errors import UnreadableInput

MARIADB, MYSQL = "mariadb", "mysql"
MOST_BYTES = 64 * 1024**2
OUR_MARK = '"mysql_plan"'
# What only MySQL writes: costs, the second version of its JSON, trees, a column of its table.
_MYSQL_MARKS = ('"cost_info"', '"query_plan"', "-> ", "partitions")
_CONDITIONS = frozenset(
    """attached_condition index_condition having_condition const_condition condition operation
    lookup_condition pushed_index_condition query original_condition sort_key""".split()
)
_LISTS = frozenset(("ranges", "hash_condition", "sort_fields", "values"))


class _FamilyPlans(Reading):
    """Plans of either member."""

    engine = MYSQL
    most_bytes = MOST_BYTES

    @property
    def rules(self) -> Sequence[Rule]:  # type: ignore[override]
        """What only this family's plans have; they are loaded when a plan is judged."""
        from humble_ledger.engines.mysql.symptoms import RULES  # noqa: PLC0415

        return RULES

    def looks_like(self, text: str) -> bool:
        """Whether a text is a plan of this member."""
        # Loaded here: each text that people give is shown to every engine.
        from humble_ledger.engines.mysql.plans.saved import kind_of  # noqa: PLC0415

        return bool(kind_of(text)) and self._ours(text)

    def _ours(self, text: str) -> bool:
        """Which of the two members wrote it."""
        if OUR_MARK in text[:2_000]:
            return f'"{self.engine}"' in text[:2_000]
        mysql = any(mark in text for mark in _MYSQL_MARKS)
        return mysql == (self.engine == MYSQL)

    def document(self, text: str) -> object:
        """The document of a saved plan."""
        from humble_ledger.engines.mysql.plans.saved import document_of  # noqa: PLC0415

        return document_of(text)

    def read(self, document: object, version: str = "") -> Plan:
        """The plan in a document of a server, or in one of ours that has it inside."""
        if not isinstance(document, Mapping):
            raise UnreadableInput("This is no plan of MariaDB or MySQL.", "An object was expected.")
        # Reading conditions takes the parser of statements, which takes long to load.
        from humble_ledger.engines.mysql.plans.reading import plan_of  # noqa: PLC0415

        try:
            return plan_of(document, self.engine, version)
        except (KeyError, TypeError, ValueError, AttributeError, RecursionError) as error:
            raise UnreadableInput(f"This plan is not whole: {error!r}.") from error

    def masked(self, document: object) -> object:
        """The document without the literals in its conditions."""
        return _masked(document)

    def costs(self, server: ServerFacts) -> CostModel:
        """The formulas of such a server."""
        from humble_ledger.engines.mysql.costs import MysqlCosts  # noqa: PLC0415

        return MysqlCosts.of(server)

    def logged(self, document: object | None, text: str, took_ms: float) -> object:
        """A plan that a slow log holds, which is the plain table."""
        found = document if document is not None else self.document(text)
        context: Mapping[str, object] = {}
        if isinstance(found, Mapping) and "Plan" in found:
            # Reading the statement takes its parser, and most logs have no plans.
            from humble_ledger.engines.mysql.plans.statement import context_in  # noqa: PLC0415

            context = context_in(str(found["Query Text"]), "", str(found.get("database", "")))
            found = found["Plan"]
        return {
            "mysql_plan": 1, "engine": self.engine, "plan": found, "took_ms": took_ms, **context,
        }  # fmt: skip

    def shape(self, document: object | None, text: str) -> tuple[str, ...]:
        """Tables with their ways of access, in order."""
        if document is None:
            return tuple(line.strip() for line in text.splitlines() if line.strip())
        return tuple(_shape(document))


class MariadbPlans(_FamilyPlans):
    """Plans of MariaDB."""

    engine = MARIADB


class MysqlPlans(_FamilyPlans):
    """Plans of MySQL."""


def _masked(part: Any, key: str = "") -> Any:
    from humble_ledger.core.statements.masking import masked  # noqa: PLC0415

    if isinstance(part, Mapping):
        if key == "values":
            return {name: masked(str(text)) for name, text in part.items()}
        return {name: _masked(value, name) for name, value in part.items()}
    if isinstance(part, list):
        whole = key in _LISTS
        return [masked(v) if whole and isinstance(v, str) else _masked(v, key) for v in part]
    if isinstance(part, str) and key == "operation":
        return _masked_line(part)
    if isinstance(part, str) and key in _CONDITIONS:
        return masked(part)
    return part


# Constants in the line of an operation; those of LIMIT and of a sort are none of a condition.
_CONSTANT = re.compile(
    r"'(?:[^'\\]|\\.|'')*'|(?<![\w.`#])-?\d+(?:\.\d+)?(?:e[-+]?\d+)?(?![\w.`])", re.IGNORECASE
)
_NO_CONDITION = ("Limit", "Sort", "Select #")


def _masked_line(line: str) -> str:
    if line.startswith(_NO_CONDITION):
        return line
    return _CONSTANT.sub(lambda m: "'?'" if m[0].startswith("'") else "0", line)


def _shape(part: Any) -> Iterable[str]:
    if isinstance(part, Mapping):
        name = part.get("table_name") or part.get("table")
        if isinstance(name, str):
            access = part.get("access_type") or part.get("type") or ""
            yield f"{name} {access} {part.get('key') or part.get('index_name') or ''}".strip()
        elif isinstance(part.get("operation"), str):
            yield str(part["operation"])
        for value in part.values():
            if isinstance(value, Mapping | list):
                yield from _shape(value)
    elif isinstance(part, list):
        for value in part:
            yield from _shape(value)
