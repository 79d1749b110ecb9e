"""Why a plan is another one than it was: what the two plans themselves show of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

from humble_ledger.core.limits.outline import outline
from humble_ledger.core.messages import Message, message
from humble_ledger.core.plans.model import SCANS, Plan

CLEARLY_OTHER = 2.0  # times so many rows expected of a table


class Why(StrEnum):
    """What may have turned a plan."""

    VERSION = "version"
    SETTING = "setting"
    INDEX_GONE = "index-gone"
    INDEX_NEW = "index-new"
    ROWS = "rows"
    VALUES = "values"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Turned:
    """One reason: as it is told, with the ``name`` of what it is about and how it ``was``."""

    why: Why
    words: Message
    name: str = ""
    was: str = ""


def flipped(old: Plan, new: Plan) -> bool:
    """Whether the new plan does something else, or by something else."""
    return outline(old) != outline(new)


def reasons(
    old: Plan, new: Plan, indexes_now: frozenset[str], *, same_values: bool = True
) -> list[Turned]:
    """What differs between the plans beside their steps; at least one reason, which may be unknown.

    ``indexes_now`` are the names of all indexes on the tables that they read.
    """
    found: list[Turned] = []
    if old.engine_version != new.engine_version:
        words = message("server-changed", was=old.engine_version, is_=new.engine_version)
        found.append(Turned(Why.VERSION, words, "", old.engine_version))
    for name in sorted(old.engine_settings.keys() | new.engine_settings.keys()):
        was, is_ = old.engine_settings.get(name), new.engine_settings.get(name)
        if was != is_:
            words = message("setting-changed", name=name, was=was or "", is_=is_ or "")
            found.append(Turned(Why.SETTING, words, name, was or ""))
    used_then, used_now = _indexes(old), _indexes(new)
    for name in sorted(used_then - indexes_now):
        found.append(Turned(Why.INDEX_GONE, message("index-gone", name=name), name))
    for name in sorted(used_now - used_then):
        found.append(Turned(Why.INDEX_NEW, message("index-newly-used", name=name), name))
    if not same_values:
        found.append(Turned(Why.VALUES, message("planned-for-other-values")))
    then, now = _expected(old), _expected(new)
    for table in sorted(then.keys() & now.keys()):
        factor = max(now[table], 0.5) / max(then[table], 0.5)
        if not 1.0 / CLEARLY_OTHER < factor < CLEARLY_OTHER:
            words = message("other-rows-expected", table=table, now=now[table], then=then[table])
            found.append(Turned(Why.ROWS, words, table))
    return found or [Turned(Why.UNKNOWN, message("plans-do-not-show-why"))]


def _indexes(plan: Plan) -> frozenset[str]:
    return frozenset(node.index for node in plan.nodes() if node.index)


def _expected(plan: Plan) -> Mapping[str, float]:
    """Rows expected of each table's first scan."""
    found: dict[str, float] = {}
    for node in plan.nodes():
        if node.operation in SCANS and node.relation and node.rows_expected is not None:
            found.setdefault(node.relation, node.rows_expected)
    return found
