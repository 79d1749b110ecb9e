"""A server whose cost formulas nobody published, or of which nothing but a plan is known.

Nothing is predicted by these: every price is without end, so that no rule finds a cheaper way.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import inf

from humble_ledger.core.costs.model import IndexShape, KeySample, ScanCost, Search
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts

_NO_WAY = ScanCost(0.0, inf, "unknown")
_BLOCK = 8192


class UnknownSizes:
    """See `core.costs.contract.IndexSizer`: by the widths of columns alone."""

    def in_order(
        self,
        table: TableFacts,
        columns: Sequence[ColumnFacts],
        included: Sequence[ColumnFacts] = (),
        entries: float | None = None,
        sample: KeySample | None = None,
    ) -> IndexShape:
        """As many entries as rows."""
        rows = table.rows if entries is None else entries
        width = sum(c.mean_width_bytes or max(c.length_bytes, 8) for c in (*columns, *included))
        return IndexShape(max(1, round(rows * width / _BLOCK)), 1, rows)

    def block_ranges(self, table: TableFacts, keys: int) -> IndexShape:
        """Unknown."""
        return IndexShape(1, 1, table.rows)

    def enclosing(self, table: TableFacts, columns: Sequence[ColumnFacts]) -> IndexShape:
        """Unknown."""
        return IndexShape(1, 1, table.rows)

    def inverted(
        self,
        table: TableFacts,
        width_bytes: float,
        terms_per_row: float,
        sample: KeySample | None = None,
    ) -> IndexShape:
        """Unknown."""
        return IndexShape(1, 1, table.rows)


@dataclass(frozen=True, slots=True)
class UnknownResources:
    """See `core.costs.contract.Resources`: what is granted is not known; ``memory`` names it."""

    memory: str = "its memory"
    most_workers: float | None = None
    compile_above_cost: float | None = None

    @property
    def memory_setting(self) -> str:
        """What the server calls the memory of a step."""
        return self.memory

    @property
    def hash_memory_setting(self) -> str:
        """The same of a hash."""
        return self.memory

    @property
    def workers_setting(self) -> str:
        """Not known."""
        return ""

    @property
    def most_workers_setting(self) -> str:
        """Not known."""
        return ""

    @property
    def compile_setting(self) -> str:
        """Not known."""
        return ""

    @property
    def compile_above_setting(self) -> str:
        """Not known."""
        return ""

    def memory_bytes(self, plan: Plan) -> float:
        """No limit that is known."""
        return inf

    def hash_memory_bytes(self, plan: Plan) -> float:
        """No limit that is known."""
        return inf


@dataclass(frozen=True, slots=True)
class UnknownCosts:
    """See `core.costs.contract.CostModel`."""

    resources: UnknownResources = UnknownResources()
    sizes: UnknownSizes = UnknownSizes()  # noqa: RUF009
    skips_leading_columns: bool = False

    def sort(self, rows: float, width_bytes: float) -> float:
        """Unknown."""
        return inf

    def per_row(self, rows: float, operators: float = 0) -> float:
        """Unknown."""
        return inf

    def full_scan(self, table: TableFacts, operators: float = 0) -> float:
        """Unknown."""
        return inf

    def correlation(self, leading: ColumnFacts | None, keys: int) -> float:
        """Unknown."""
        return 0.0

    def index_scan(
        self,
        table: TableFacts,
        shape: IndexShape,
        search: Search,
        correlation: float,
        covering: bool = False,
    ) -> ScanCost:
        """Unknown."""
        return _NO_WAY

    def bitmap_scan(self, table: TableFacts, shape: IndexShape, search: Search) -> ScanCost:
        """Unknown."""
        return _NO_WAY

    def block_range_scan(
        self, table: TableFacts, shape: IndexShape, search: Search, correlation: float
    ) -> ScanCost:
        """Unknown."""
        return _NO_WAY

    def inverted_scan(
        self, table: TableFacts, shape: IndexShape, search: Search, terms: int
    ) -> ScanCost:
        """Unknown."""
        return _NO_WAY
