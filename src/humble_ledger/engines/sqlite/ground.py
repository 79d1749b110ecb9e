"""All that is known of a target: schema, statistics, sizes and samples, each read when needed."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from humble_ledger.core.costs.model import IndexShape, KeySample
from humble_ledger.core.schema.facts import (
    ClusteredFacts,
    ColumnFacts,
    IndexFacts,
    IndexKey,
    TableFacts,
)
from humble_ledger.engines.sqlite import samples
from humble_ledger.engines.sqlite.asking import row
from humble_ledger.engines.sqlite.costs import Sizes as IndexSizes
from humble_ledger.engines.sqlite.plans.blocks import Condition
from humble_ledger.engines.sqlite.reading import Reader, Stamp, stamp_of
from humble_ledger.engines.sqlite.samples import ColumnSample, Sample, quoted
from humble_ledger.engines.sqlite.schema import ROWID, Index, Schema, Table, read_schema, table_name
from humble_ledger.engines.sqlite.sizes import Sizes, estimated_pages, read_sizes, rows_of
from humble_ledger.engines.sqlite.statistics import Statistics, read_statistics

FEWEST_SEEN = 5  # rows of a sample, below which a share is told by means
_EQUAL, _BOUND, _PATTERN, _OTHER = 0.01, 0.25, 0.1, 0.25
_LIST = 25.0
# A number at one end of a comparison.
_NUMBER = re.compile(r"(?:^(-?\d+(?:\.\d+)?) *[<>]|[<>]=? *(-?\d+(?:\.\d+)?)$)")


@dataclass(slots=True)
class Ground:
    """What plans are put together from; read anew when the file changed."""

    reader: Reader
    _stamp: Stamp = ()
    _schema: Schema = field(default_factory=dict)
    _statistics: Statistics = field(default_factory=lambda: Statistics({}, {}, {}))
    _sizes: Sizes | None = None
    _samples: dict[str, Sample] = field(default_factory=dict)
    _columns: dict[tuple[str, str], ColumnSample] = field(default_factory=dict)
    _facts: dict[str, TableFacts] = field(default_factory=dict)
    _ends: dict[str, tuple[float, float]] = field(default_factory=dict)

    def refresh(self) -> None:
        """Forget what was read of an earlier state of the schema or the statistics."""
        stamp = stamp_of(self.reader.path)
        if stamp == self._stamp:
            return
        schema, statistics = self.reader.ask(lambda c: (read_schema(c), read_statistics(c)))
        if schema != self._schema or statistics != self._statistics:
            self._sizes = None
            self._samples, self._columns, self._facts, self._ends = {}, {}, {}, {}
        self._schema, self._statistics, self._stamp = schema, statistics, stamp

    @property
    def schema(self) -> Schema:
        """Tables and views by name."""
        return self._schema

    @property
    def statistics(self) -> Statistics:
        """What ANALYZE left."""
        return self._statistics

    @property
    def sizes(self) -> Sizes:
        """Pages by name."""
        if self._sizes is None:
            self._sizes = self.reader.ask(read_sizes)
        return self._sizes

    def table(self, name: str) -> Table | None:
        """A table of the schema, whatever its letters' case."""
        found = self._schema.get(name)
        if found is not None:
            return found
        return next((t for t in self._schema.values() if t.name.lower() == name.lower()), None)

    def sample(self, table: Table) -> Sample:
        """Rows of a table, read once."""
        if table.name not in self._samples:
            known = self._facts.get(table.name)
            rows = known.rows if known else self.reader.ask(lambda c: rows_of(c, table))
            self._samples[table.name] = self.reader.ask(lambda c: samples.take(c, table, rows))
        return self._samples[table.name]

    # See `plans.knowledge.Knowledge`

    def facts(self, table: str) -> TableFacts | None:
        """A table's facts; None for a view, a virtual table and an unknown name."""
        found = self.table(table)
        if found is None or found.kind != "table":
            return None
        if found.name not in self._facts:
            self._facts[found.name] = self._read_facts(found)
        return self._facts[found.name]

    def shape(self, table: str, index: str) -> IndexShape | None:
        """The size of an index that is there."""
        facts = self.facts(table)
        held = facts.index(index) if facts is not None else None
        if facts is None or held is None:
            return None
        pages = max(1, held.pages)
        levels = 0 if pages == 1 else 1 + int(math.log(max(2, pages), 200))
        entries = facts.rows
        if held.predicate:
            known = self._statistics.indexes.get((facts.name.name.lower(), index.lower()))
            keys = self.key_sample(facts.name.name, held.keys, (), held.predicate)
            entries = known.rows if known else facts.rows * (keys.share if keys else 1.0)
        return IndexShape(pages, levels, entries)

    def keys(self, table: str, index: str) -> Sequence[str]:
        """The columns of an index's keys."""
        facts = self.facts(table)
        held = facts.index(index) if facts is not None else None
        return held.key_columns if held is not None else ()

    def unique(self, table: str, index: str) -> int | None:
        """How many keys together are unique."""
        facts = self.facts(table)
        held = facts.index(index) if facts is not None else None
        return len(held.keys) if held is not None and held.unique else None

    def share(self, table: str, alias: str, conditions: Sequence[Condition]) -> float:
        """The part of a table's rows that meets all these, by a sample as far as it tells."""
        found = self.table(table)
        if found is None or not conditions:
            return 1.0
        sample = self.sample(found)
        bounds = [c for c in conditions if self._bounds_rowid(found, c)]
        known = [c for c in conditions if c.own and "$" not in c.own and c not in bounds]
        others = [c for c in conditions if c not in known and c not in bounds]
        part = self._seen(sample, alias, known) if known else 1.0
        part *= self._between(found, bounds) if bounds else 1.0
        for each in others:
            part *= self._guessed(found, alias, each)
        return min(1.0, part)

    def distinct(self, table: str, column: str) -> float:
        """How many different values a column has: by ANALYZE, else by the sample."""
        facts = self.facts(table)
        if facts is None:
            return 1.0
        held = facts.columns.get(column)
        if held is None or (found := held.distinct_values(facts.rows)) is None:
            return max(1.0, facts.rows)
        return max(1.0, found)

    def key_sample(
        self, table: str, keys: Sequence[IndexKey], included: Sequence[str], predicate: str
    ) -> KeySample | None:
        """Entries that an index would have."""
        found = self.table(table)
        if found is None:
            return None
        expressions = [quoted(k.column) if k.column else k.expression for k in keys]
        return self.sample(found).keys(expressions, [quoted(name) for name in included], predicate)

    def column_sample(self, table: Table, column: str) -> ColumnSample:
        """What the sample shows of a column."""
        key = (table.name, column)
        if key not in self._columns:
            self._columns[key] = self.sample(table).column(column)
        return self._columns[key]

    def _bounds_rowid(self, table: Table, condition: Condition) -> bool:
        """Whether a condition bounds the numbers of the rows, whose ends are known."""
        column = next((c for _, c in condition.columns if c), "")
        bounds = condition.operator in (">", ">=", "<", "<=")
        own = column in (table.rowid_column, ROWID) and table.by_rowid
        return bounds and own and _NUMBER.search(condition.own) is not None

    def _between(self, table: Table, bounds: Sequence[Condition]) -> float:
        """The part of a table's rows whose numbers lie within bounds, if they lie evenly."""
        if table.name not in self._ends:
            text = f"SELECT min(rowid), max(rowid) FROM {quoted(table.name)}"  # noqa: S608
            low, high = self.reader.ask(lambda c: row(c, text))
            self._ends[table.name] = (float(low or 0), float(high or 0))
        low, high = self._ends[table.name]
        span = high - low + 1
        for each in bounds:
            found = _NUMBER.search(each.own)
            value = float(found[1] or found[2]) if found is not None else low
            # The column may stand on either side of the sign.
            upper = (each.operator[0] == "<") == (each.columns[0][1] != "")
            low, high = (low, min(high, value)) if upper else (max(low, value), high)
        return min(1.0, max(high - low + 1, 0.0) / span)

    def _seen(self, sample: Sample, alias: str, conditions: Sequence[Condition]) -> float:
        together = sample.share(" AND ".join(f"({c.own})" for c in conditions), alias)
        if together is not None and (sample.whole or together * sample.seen >= FEWEST_SEEN):
            return together
        part = 1.0
        for each in conditions:
            alone = sample.share(f"({each.own})", alias)
            if alone is not None and (sample.whole or alone * sample.seen >= FEWEST_SEEN):
                part *= alone
            else:
                part *= self._guessed(sample.table, alias, each, rare=alone is not None)
        if together is not None and not sample.whole:
            part = min(part, FEWEST_SEEN / max(1, sample.seen))
        return part

    def _guessed(
        self, table: Table, alias: str, condition: Condition, *, rare: bool = False
    ) -> float:
        """The share without its value, or of one that the sample hardly has."""
        column = next((c for a, c in condition.columns if a == alias and c), "")
        if condition.operator in ("=", "in"):
            each = 1.0 / self.distinct(table.name, column) if column else _EQUAL
            if "= ANY (" in condition.text:
                return min(1.0, each * _LIST)
            many = condition.text.count(",") + 1.0 if condition.operator == "in" else 1.0
            return min(1.0, each * many)
        if condition.operator == "null" and column:
            return self.column_sample(table, column).null_share
        if rare:
            return 1.0 / max(1, self.sample(table).seen)
        return {"like": _PATTERN, "": _OTHER, "or": _OTHER}.get(condition.operator, _BOUND)

    def _read_facts(self, table: Table) -> TableFacts:
        rows = self.reader.ask(lambda c: rows_of(c, table))
        sample = self.sample(table)
        page_bytes = self.sizes.page_bytes
        known = self._statistics.rows.get(table.name.lower())
        columns = {
            c.name: self._column(table, place, sample, rows)
            for place, c in enumerate(table.columns, 1)
        }
        width = sum((c.mean_width_bytes or 0) + 1 for c in columns.values())
        pages = self._pages(table, rows, width)
        facts = TableFacts(
            table_name(table.name),
            "table",
            rows,
            pages,
            pages * page_bytes,
            page_bytes,
            columns,
            changes_since_analyze=None if known is None else round(abs(rows - known)),
            rows_counted=known,
            gathered=known is not None,
            foreign_keys=table.foreign_keys,
            storage=ClusteredFacts(self._clustered_by(table)),
            counted=False,
        )
        indexes = tuple(self._index(table, facts, each) for each in table.indexes)
        if table.rowid_column:
            # Rows lie in this order: it leads to them as an index would, and takes no room.
            key = IndexKey(table.rowid_column)
            own = IndexFacts(ROWID, "btree", (key,), unique=True, primary=True, constraint=True)
            indexes = (own, *indexes)
        return replace(facts, indexes=indexes)

    def _pages(self, table: Table, rows: float, width: float) -> int:
        name = table.name
        if not table.by_rowid:
            # Its rows lie in the index of its primary key.
            own = next((i.name for i in table.indexes if i.origin == "pk"), name)
            name = own if own in self.sizes.pages else name
        if name in self.sizes.pages:
            return self.sizes.pages[name]
        return estimated_pages(rows, width, self.sizes.page_bytes)

    def _index(self, table: Table, facts: TableFacts, index: Index) -> IndexFacts:
        pages = self.sizes.pages.get(index.name)
        if pages is None:
            keys = self.key_sample(table.name, index.keys, (), index.predicate)
            held = [facts.columns[k.column] for k in index.keys if k.column in facts.columns]
            share = keys.share if keys is not None else 1.0
            sizes = IndexSizes(facts.page_bytes)
            pages = sizes.in_order(facts, held, (), facts.rows * share, keys).pages
        return IndexFacts(
            index.name,
            "btree",
            index.keys,
            unique=index.unique,
            primary=index.origin == "pk",
            predicate=index.predicate,
            definition=index.sql,
            size_bytes=pages * facts.page_bytes,
            pages=pages,
            constraint=index.origin != "c",
        )

    def _clustered_by(self, table: Table) -> tuple[str, ...]:
        if table.rowid_column:
            return (table.rowid_column,)
        keys = sorted((c.key_place, c.name) for c in table.columns if c.key_place)
        return () if table.by_rowid else tuple(name for _, name in keys)

    def _column(self, table: Table, place: int, sample: Sample, rows: float) -> ColumnFacts:
        column = table.columns[place - 1]
        seen = None if column.hidden else self.column_sample(table, column.name)
        return ColumnFacts(
            column.name,
            column.type_name.lower(),
            place,
            column.not_null or column.name == table.rowid_column,
            -1,
            1,
            mean_width_bytes=round(seen.mean_bytes) if seen else None,
            null_share=seen.null_share if seen else None,
            distinct=self._distinct(table, column.name, sample, rows) if seen else None,
            correlation=seen.correlation if seen else None,
            top_share=seen.top_share if seen else None,
            collation=column.collation,
            sorted_by_bytes=column.collation == "binary",
        )

    def _distinct(self, table: Table, column: str, sample: Sample, rows: float) -> float:
        if column == table.rowid_column:
            return -1.0
        for index in table.indexes:
            known = self._statistics.indexes.get((table.name.lower(), index.name.lower()))
            if index.keys and index.keys[0].column == column and not index.predicate:
                if index.unique and len(index.keys) == 1:
                    return -1.0
                if known is not None and known.per_prefix:
                    return max(1.0, known.rows / max(1.0, known.per_prefix[0]))
        keys = sample.keys([quoted(column)], [], "")
        found = keys.distinct(max(rows, 1.0)) if keys is not None else 1.0
        return -found / rows if rows and found > rows / 10 else found
