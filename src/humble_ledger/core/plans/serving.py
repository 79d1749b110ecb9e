"""Which indexes of a table a plan uses, with how much of their keys, and which could serve."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from humble_ledger.core.plans.model import Node, Plan
from humble_ledger.core.plans.tables import Place, TableAccount, search_columns
from humble_ledger.core.schema.facts import IndexFacts, TableFacts
from humble_ledger.core.statements.conditions import columns_of, predicates


class Service(StrEnum):
    """How an index stands to a plan."""

    USED = "used"
    COULD = "could serve"  # its first key is searched for
    BEHIND = "searched behind its first key"
    NOT = "no condition on it"


@dataclass(frozen=True, slots=True)
class IndexService:
    """One index of a table; ``keys_led`` keys lead to rows, or would."""

    index: IndexFacts
    service: Service
    keys_led: int
    steps: tuple[int, ...] = ()


_ORDER = tuple(Service)


def index_services(plan: Plan, table: TableFacts, account: TableAccount) -> list[IndexService]:
    """Each index of a table with its part in the plan, the used ones first."""
    wanted = search_columns([plan.node(step) for step in account.steps])
    wanted |= {column for column, places in account.columns.items() if Place.JOIN in places}
    found = [_service(plan, wanted, index) for index in table.indexes]
    return sorted(found, key=lambda each: (_ORDER.index(each.service), each.index.name))


def _service(plan: Plan, wanted: set[str], index: IndexFacts) -> IndexService:
    users = [n for n in plan.nodes() if n.index == index.name]
    if users:
        led = max(_led(index, _searched(user)) for user in users)
        return IndexService(index, Service.USED, led, tuple(user.no for user in users))
    led = _led(index, wanted)
    if led:
        return IndexService(index, Service.COULD, led)
    behind = any(column in wanted for column in index.key_columns[1:])
    return IndexService(index, Service.BEHIND if behind else Service.NOT, 0)


def _searched(node: Node) -> set[str]:
    """The columns of an index scan's search condition."""
    return {
        ref.column
        for text in node.conditions.search
        for each in predicates(text)
        for ref in columns_of(each.sql)[:1]
    }


def _led(index: IndexFacts, columns: set[str]) -> int:
    """How many of its first keys are among the columns searched for."""
    led = 0
    for column in index.key_columns:
        if column not in columns:
            break
        led += 1
    return led
