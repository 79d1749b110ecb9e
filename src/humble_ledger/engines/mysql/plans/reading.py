"""Documents of plans to plans, whichever form they have."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from humble_ledger.core.plans.model import Plan
from humble_ledger.engines.mysql.conversions import show_conversions
from humble_ledger.engines.mysql.costs import sort_cost
from humble_ledger.engines.mysql.plans.blocks import BlockReader
from humble_ledger.engines.mysql.plans.context import context_of
from humble_ledger.engines.mysql.plans.iterators import measured as measured_tree
from humble_ledger.engines.mysql.plans.iterators import read_tree
from humble_ledger.engines.mysql.plans.steps import Step, fill_costs, tree
from humble_ledger.engines.mysql.plans.table_form import blocks_of
from humble_ledger.engines.mysql.plans.tables import number
from humble_ledger.errors import UnreadableInput


def plan_of(document: Mapping[str, Any], engine: str, version: str) -> Plan:
    """The plan in a document of a server's, or in ours that has it beside its context.

    Raises:
        UnreadableInput: there is none in it.
    """
    own = "mysql_plan" in document
    inner = document["plan"] if own else document
    context = context_of(document) if own else context_of({})
    if own:
        version = version or str(document.get("version", ""))
    if "rows" in inner and isinstance(inner["rows"], list):
        inner = blocks_of(inner["rows"])
    if "query_block" in inner:
        measured = _has_measures(inner["query_block"])
        reader = BlockReader(context, measured, sort_cost)
        root = reader.block(inner["query_block"])
    else:
        found = inner.get("query_plan") or inner.get("tree") or inner
        if not isinstance(found, Mapping) or "operation" not in found:
            raise UnreadableInput("This is no plan of MariaDB or MySQL.", "It tells no operation.")
        measured = measured_tree(found)
        root = read_tree(found, context)
    fill_costs(root)
    if own:
        show_conversions(root, document.get("converted", ()))
    optimizing = inner.get("query_optimization") or {}
    took = number(document.get("took_ms")) if own else None
    return Plan(
        engine,
        version,
        tree(root, measured),
        measured or took is not None,
        planning_ms=number(optimizing.get("r_total_time_ms")),
        execution_ms=took if took is not None else _whole_ms(root, measured),
        details={k: v for k, v in document.items() if k in ("cost_by", "trace_missing")},
    )


def _whole_ms(root: Step, measured: bool) -> float | None:
    return root.total_ms() if measured else None


def _has_measures(part: Any) -> bool:
    if isinstance(part, Mapping):
        if any(key in part for key in ("r_loops", "r_rows", "r_total_time_ms")):
            return True
        return any(_has_measures(value) for value in part.values())
    return isinstance(part, list) and any(_has_measures(value) for value in part)
