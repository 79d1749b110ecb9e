"""A session on a hollow as a target: it plans like any other, and nothing can be measured."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from typing import NoReturn

from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.estimates.counting import ValueCounts
from humble_ledger.core.schema.facts import IndexKey, TableFacts, TableName
from humble_ledger.core.schema.readiness import Readiness
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.workload.sampling import ActivityLook
from humble_ledger.core.workload.statistics import StatisticsLook
from humble_ledger.engines.contract import (
    Capability,
    ExplainOptions,
    Limits,
    Outcome,
    PlanDocument,
    Support,
)
from humble_ledger.engines.postgresql.connection import no_rows
from humble_ledger.engines.postgresql.session import PostgresSession


class RowlessSession(PostgresSession):
    """See `engines.contract.Session`; whatever would need rows is refused."""

    def __init__(self, url: str, limits: Limits, place: str, held: ExitStack) -> None:
        self._place, self._held = place, held
        try:
            super().__init__(url, limits)
        except BaseException:
            held.close()
            raise

    def support(self, capability: Capability) -> Support:
        """Whatever would build something is not there."""
        if capability in (Capability.UNCOMMITTED_INDEX, Capability.HIDDEN_INDEX):
            return Support(False, reason=f"{self._place} is a copy without rows")
        return super().support(capability)

    def explain(
        self,
        statement: Statement,
        options: ExplainOptions = ExplainOptions(),  # noqa: B008
    ) -> PlanDocument:
        """The plan of a statement.

        Raises:
            WrongUsage: it is to be measured.
        """
        if options.measure:
            self._refuse()
        return super().explain(statement, options)

    def run(self, statement: Statement) -> Outcome:
        """Refused."""
        self._refuse()

    def count(self, table: TableName, conditions: Sequence[str]) -> int:
        """Refused."""
        self._refuse()

    def value_counts(self, table: TableName, column: str, most: int) -> ValueCounts:
        """Refused."""
        self._refuse()

    def activity(self) -> ActivityLook:
        """Refused."""
        self._refuse()

    def preflight(self) -> Sequence[Readiness]:
        """Refused."""
        self._refuse()

    def statistics(self) -> StatisticsLook:
        """Refused."""
        self._refuse()

    def sample_keys(
        self, table: TableName, keys: Sequence[IndexKey], included: Sequence[str], predicate: str
    ) -> KeySample | None:
        """There is nothing to sample: sizes are computed from the statistics."""
        return None

    def tables(self, names: Iterable[TableName]) -> Mapping[TableName, TableFacts]:
        """Facts about these tables; what is counted while a server works is unknown."""
        return {
            name: replace(
                facts,
                counted_since=None,
                indexes=tuple(replace(i, scans=None, last_scan=None) for i in facts.indexes),
            )
            for name, facts in super().tables(names).items()
        }

    def close(self) -> None:
        """End the session, and the server with the last one."""
        super().close()
        self._held.close()

    def _refuse(self) -> NoReturn:
        raise no_rows(self._place)
