"""The sizes that indexes would have when freshly built, as the server's own formulas tell them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from humble_ledger.core.costs.contract import CostModel
from humble_ledger.core.costs.model import FEWEST_KEPT, IndexShape, KeySample
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.prediction.contract import SelectivityEstimator
from humble_ledger.core.remedies.prediction.shares import Shares
from humble_ledger.core.schema.expressions import column_of_expression
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.schema.operator_classes import PARTS_OF_TEXTS
from humble_ledger.core.statements.conditions import predicates


@dataclass(slots=True)
class Shapes:
    """The shape of every index that was asked about; each is reckoned once."""

    costs: CostModel
    oracle: SelectivityEstimator
    shares: Shares
    _known: dict[IndexDesign, IndexShape] = field(default_factory=dict)

    def of(self, design: IndexDesign, table: TableFacts) -> IndexShape:
        """The size the index would have when freshly built."""
        if design not in self._known:
            self._known[design] = self._whole(design, table)
        return self._known[design]

    def _whole(self, design: IndexDesign, table: TableFacts) -> IndexShape:
        """Of a partitioned table the sum of its parts, as if these were equal.

        A value then repeats less often in each.
        """
        count = parts_of(table)
        if count == 1:
            return self._one(design, table)
        part = replace(
            table,
            rows=table.rows / count,
            pages=-(-table.pages // count),
            columns={
                name: replace(
                    column,
                    distinct=column.distinct_values(table.rows)
                    if column.distinct_in_parts is None
                    else column.distinct_in_parts / count,
                )
                for name, column in table.columns.items()
            },
        )
        one = self._one(design, part)
        return IndexShape(one.pages * count, one.levels, one.entries * count)

    def _one(self, design: IndexDesign, table: TableFacts) -> IndexShape:
        if design.method == IndexMethod.BLOCK_RANGES:
            return self.costs.sizes.block_ranges(table, len(design.keys))
        columns = [table.columns[k.column] for k in design.keys if k.column in table.columns]
        if design.method == IndexMethod.INVERTED:
            return self._inverted(design, table, columns)
        if design.method == IndexMethod.ENCLOSING:
            return self.costs.sizes.enclosing(table, columns)
        columns = [
            table.columns.get(k.column) or column_of_expression(k.expression) for k in design.keys
        ]
        included = [table.columns[name] for name in design.included]
        sample = self.sampled(design, design.predicate)
        entries = self._entries(design, table, sample) if design.predicate else None
        return self.costs.sizes.in_order(table, columns, included, entries, sample)

    def _inverted(
        self, design: IndexDesign, table: TableFacts, columns: Sequence[ColumnFacts]
    ) -> IndexShape:
        """By the terms of a sample where one can be taken, else by the width of the values."""
        width = float(columns[0].mean_width_bytes or 32) if columns else 32.0
        key, type_name = design.keys[0], columns[0].type_name if columns else ""
        found = self.oracle.sample_terms(design.table, key, type_name)
        if found is not None:
            return self.costs.sizes.inverted(table, width, found[1], found[0])
        parts = key.operator_class == PARTS_OF_TEXTS
        return self.costs.sizes.inverted(table, width, width if parts else max(2.0, width / 16))

    def sampled(self, design: IndexDesign, predicate: str = "") -> KeySample | None:
        """What an index on these keys would have in it, by a sample; None where none is taken."""
        return self.oracle.sample_keys(design.table, design.keys, design.included, predicate)

    def _entries(self, design: IndexDesign, table: TableFacts, sample: KeySample | None) -> float:
        """Rows that meet an index's condition: counted in the sample when it saw enough."""
        if sample is not None and sample.rows_kept >= FEWEST_KEPT:
            return sample.share * table.rows
        rows = self.shares.rows(table, table.name.name, predicates(design.predicate))
        # The server tells those of all partitions; ``table`` then stands for one of them.
        return rows / parts_of(table)


def parts_of(table: TableFacts) -> int:
    """How many partitions a table has; 1 for one that is not partitioned."""
    return max(1, table.partitions) if table.kind == "partitioned" else 1
