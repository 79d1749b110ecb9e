"""Small indexes of huge tables whose rows lie in the order of a column."""

from __future__ import annotations

from collections.abc import Iterator

from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.keys import columns_in
from humble_ledger.core.remedies.candidates.model import Access, Candidate
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import IndexKey
from humble_ledger.core.schema.index_methods import IndexMethod

FEWEST_PAGES = 4_096  # 32 MiB: below that an index of each row is small enough
IN_ORDER = 0.9  # correlation of the column with the place of its rows


def block_ranges(plan: Plan, access: Access) -> Iterator[Candidate]:
    """One for each column with a range, when rows lie in its order."""
    table = access.table
    if table.pages < FEWEST_PAGES:
        return
    for name in columns_in((*access.ranges, *access.equalities)):
        column = table.columns.get(name)
        if column is None or abs(column.correlation or 0.0) < IN_ORDER:
            continue
        if any(
            i.method == IndexMethod.BLOCK_RANGES and name in i.key_columns for i in table.indexes
        ):
            continue
        yield Candidate(
            IndexDesign(table.name, (IndexKey(name),), method=IndexMethod.BLOCK_RANGES),
            access,
            message("index-of-blocks", column=name),
        )
