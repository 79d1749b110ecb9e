"""Making small databases that the schema allows, at random and from those that told something."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from random import Random

from humble_ledger.core.remedies.counterexamples.model import (
    Condition,
    Demand,
    Row,
    SmallDatabase,
)
from humble_ledger.core.schema.facts import ForeignKey, TableFacts, TableName

MOST_ROWS = 4  # of one table: what two statements differ in shows on one or two
TIME_ZONES = ("", "", "", "UTC", "America/New_York", "Asia/Kolkata")
_NULL_SHARE = 0.25
_FEW = 3  # different values of a column in one database, so that rows meet each other
_Draft = dict[TableName, list[dict[str, str | None]]]


@dataclass(frozen=True, slots=True)
class Maker:
    """Makes rows for tables whose columns may have these values.

    ``pools`` gives for each table its columns with their values, the most telling first; only
    these columns are filled. ``conditions`` hold beside what the schema demands.
    """

    tables: Mapping[TableName, TableFacts]
    pools: Mapping[TableName, Mapping[str, Sequence[str]]]
    random: Random
    conditions: tuple[Condition, ...] = ()
    _unique: dict[TableName, list[tuple[str, ...]]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        """Know what must be unique."""
        for name, facts in self.tables.items():
            self._unique[name] = [
                index.key_columns
                for index in facts.indexes
                if index.unique and index.valid and not index.predicate
                and "" not in index.key_columns
            ]  # fmt: skip
            self._unique[name] += [
                (c.column,)
                for c in self.conditions
                if c.demand is Demand.UNIQUE and c.table == name
            ]

    def fresh(self) -> SmallDatabase:
        """A database at random; often with empty tables."""
        draft: _Draft = {}
        for name in self._in_order():
            few = self._few(name)
            rows = draft.setdefault(name, [])
            for _ in range(self.random.choice((0, 1, 1, 2, 2, 3, MOST_ROWS))):
                rows.append(self._row(name, few, rows))
        return self._allowed(draft, self.random.choice(TIME_ZONES))

    def like(self, database: SmallDatabase) -> SmallDatabase:
        """A database that differs a little from one that told something."""
        draft: _Draft = {name: [dict(r) for r in rows] for name, rows in database.rows.items()}
        for _ in range(self.random.choice((1, 1, 2, 3))):
            name = self.random.choice(list(draft))
            rows = draft[name]
            change = self.random.choice(("add", "drop", "again", "value", "value", "null"))
            if change == "add" and len(rows) <= MOST_ROWS:
                rows.append(self._row(name, self.pools[name], rows))
            elif rows and change == "drop":
                rows.pop(self.random.randrange(len(rows)))
            elif rows and change == "again" and len(rows) <= MOST_ROWS:
                rows.append(dict(self.random.choice(rows)))
            elif rows and self.pools[name]:
                column = self.random.choice(list(self.pools[name]))
                values = self.pools[name][column]
                empty = (change == "null" and self._may_be_null(name, column)) or not values
                self.random.choice(rows)[column] = None if empty else self.random.choice(values)
        return self._allowed(draft, database.time_zone)

    def allowed(self, database: SmallDatabase) -> SmallDatabase:
        """A database without the rows that the schema, or the conditions, do not allow."""
        draft: _Draft = {name: [dict(r) for r in rows] for name, rows in database.rows.items()}
        return self._allowed(draft, database.time_zone)

    def _few(self, name: TableName) -> Mapping[str, Sequence[str]]:
        found = {}
        for column, values in self.pools[name].items():
            some = list(values[: self.random.choice((_FEW, 2 * _FEW, len(values) or 1))])
            self.random.shuffle(some)
            found[column] = some[:_FEW]
        return found

    def _row(
        self,
        name: TableName,
        values: Mapping[str, Sequence[str]],
        others: Sequence[Row],
    ) -> dict[str, str | None]:
        row: dict[str, str | None] = {}
        for column, some in values.items():
            if others and self.random.random() < _NULL_SHARE:
                row[column] = self.random.choice(others)[column]
            elif not some or (
                self._may_be_null(name, column) and self.random.random() < _NULL_SHARE
            ):
                row[column] = None
            else:
                row[column] = self.random.choice(some)
        return row

    def _may_be_null(self, name: TableName, column: str) -> bool:
        return (
            not self.tables[name].columns[column].not_null
            and Condition(name, column, Demand.NEVER_NULL) not in self.conditions
        )

    def _in_order(self) -> list[TableName]:
        """Tables that are referred to before those that refer to them, as far as that goes."""
        left = list(self.tables)
        found: list[TableName] = []
        while left:
            ready = [n for n in left if not self._refers_to(n) & (set(left) - {n})]
            first = (ready or left)[0]
            left.remove(first)
            found.append(first)
        return found

    def _refers_to(self, name: TableName) -> set[TableName]:
        return {key.refers_to for key in self.tables[name].foreign_keys}

    def _allowed(self, draft: _Draft, zone: str) -> SmallDatabase:
        kept: dict[TableName, tuple[Row, ...]] = {}
        for name in self._in_order():
            rows: list[Row] = []
            for row in draft.get(name, ()):
                self._refer(name, row, {**kept, name: tuple(rows)})
                if self._fits(name, row, rows):
                    rows.append(row)
            kept[name] = tuple(rows)
        return SmallDatabase({name: kept[name] for name in self.tables}, zone)

    def _refer(
        self,
        name: TableName,
        row: dict[str, str | None],
        there: Mapping[TableName, Sequence[Row]],
    ) -> None:
        """Let a row's foreign keys refer to rows that are there; to none where they may."""
        for key in self.tables[name].foreign_keys:
            if (
                not key.holds
                or key.refers_to not in self.tables
                or _refers(key, row, there[key.refers_to])
            ):
                continue
            target = there[key.refers_to]
            if target:
                chosen = self.random.choice(target)
                for own, other in zip(key.columns, key.refers_to_columns, strict=True):
                    row[own] = chosen.get(other)
            else:
                for own in key.columns:
                    row[own] = None

    def _fits(self, name: TableName, row: Row, others: Sequence[Row]) -> bool:
        if any(v is None and not self._may_be_null(name, column) for column, v in row.items()):
            return False
        return not any(
            all(row.get(c) is not None and row.get(c) == other.get(c) for c in columns)
            for columns in self._unique[name]
            for other in others
        )


def _refers(key: ForeignKey, row: Row, target: Sequence[Row]) -> bool:
    own = [row.get(column) for column in key.columns]
    if None in own:
        return True
    return any([other.get(c) for c in key.refers_to_columns] == own for other in target)
