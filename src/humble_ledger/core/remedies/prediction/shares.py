"""What part of a table's rows meets conditions: by the planner, by a sample, by the statistics."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

from humble_ledger.core.costs.model import FEWEST_KEPT
from humble_ledger.core.estimates.guessed import share_by_statistics
from humble_ledger.core.remedies.candidates.expressions import expression_of
from humble_ledger.core.remedies.candidates.model import Access
from humble_ledger.core.remedies.candidates.operator_classes import bounds_of
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.prediction.contract import SelectivityEstimator
from humble_ledger.core.remedies.prediction.matching import Match
from humble_ledger.core.schema.facts import IndexKey, TableFacts
from humble_ledger.core.schema.operator_classes import sorts_by_bytes
from humble_ledger.core.statements.conditions import Predicate, PredicateKind, Wrapping
from humble_ledger.core.statements.parting import unqualified
from humble_ledger.errors import HumbleError


@dataclass(slots=True)
class Shares:
    """The shares of rows that were asked about; each is asked for once."""

    oracle: SelectivityEstimator
    _known: dict[tuple[object, ...], float] = field(default_factory=dict)

    def of(self, access: Access, found: Match, design: IndexDesign) -> float:
        """The share of a table's rows that an index leads to, by all that it serves."""
        table, rows = access.table, max(access.table.rows, 1.0)
        patterned = any(sorts_by_bytes(key) for key in design.keys)
        key = (table.name, access.alias, found.constants, found.joined, patterned)
        if key not in self._known:
            share = 1.0
            bare = [p for p in found.constants if _known_to_planner(p)]
            if bare:
                sqls = [sql for p in bare for sql in bounds_of(p, patterned=patterned) or (p.sql,)]
                share = self.rows(table, access.alias, bare, sqls) / rows
            for predicate in found.constants:
                if predicate not in bare:
                    share *= self._sampled(access, predicate)
            if found.joined:
                share *= self.oracle.rows_per_value(table.name, found.joined) / rows
            self._known[key] = min(1.0, share)
        return self._known[key]

    def rows(
        self,
        table: TableFacts,
        alias: str,
        found: Sequence[Predicate],
        texts: Sequence[str] = (),
    ) -> float:
        """The rows that meet all these conditions; by the statistics where nobody can be asked."""
        try:
            return self.oracle.rows_matching(table.name, alias, texts or [p.sql for p in found])
        except HumbleError:
            return table.rows * math.prod(share_by_statistics(table, p) for p in found)

    def _sampled(self, access: Access, predicate: Predicate) -> float:
        """The rows for which an expression compares true: the planner has no statistics yet."""
        table = access.table
        asked = self.rows(table, access.alias, [predicate])
        text = unqualified(predicate.sql, access.alias)
        key = IndexKey("", f"({expression_of(predicate, access.alias) or text})")
        sample = self.oracle.sample_keys(table.name, (key,), (), "")
        met = self.oracle.sample_keys(table.name, (), (), text)
        if sample is None or met is None or sample.rows_seen == 0:
            return asked / max(table.rows, 1.0)
        if met.rows_kept < FEWEST_KEPT and predicate.operator == "=":
            return 1.0 / sample.distinct(max(table.rows, 1.0))
        if met.rows_kept == 0:  # rarer than what was seen
            return min(asked / max(table.rows, 1.0), 0.5 / met.rows_seen)
        return met.share


def _known_to_planner(predicate: Predicate) -> bool:
    """Whether statistics of a column stand behind the planner's estimate."""
    return predicate.wrapping is Wrapping.NONE or predicate.kind is PredicateKind.NULL_TEST
