"""What is known of tables and of how many rows meet a condition: the catalogue, and a sample.

Without statistics of a column neither member knows how many rows a condition on it leaves;
MariaDB takes every row to pass. So conditions are tried on a sample of the rows.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from humble_ledger.core.costs.model import Search
from humble_ledger.core.plans.model import SCANS, Operation
from humble_ledger.core.schema.facts import (
    ClusteredFacts,
    ColumnFacts,
    IndexKey,
    ServerFacts,
    TableFacts,
    TableName,
)
from humble_ledger.core.statements.conditions import PredicateKind, columns_of, predicates
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import PlanDocument
from humble_ledger.engines.mysql import explain
from humble_ledger.engines.mysql.catalogue import Catalogue
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.conversions import converted_columns
from humble_ledger.engines.mysql.costs import MysqlCosts
from humble_ledger.engines.mysql.index_ends import index_read_at_its_end
from humble_ledger.engines.mysql.naming import condition as ours
from humble_ledger.engines.mysql.naming import place, quoted
from humble_ledger.engines.mysql.plans.context import UNKNOWN_VALUE
from humble_ledger.engines.mysql.plans.reading import plan_of
from humble_ledger.engines.mysql.samples import MOST_ROWS, Sample, places_in
from humble_ledger.errors import HumbleError, StatementRejected

MOST_LEFT_OUT = 6  # conditions, beyond which they are not asked with one of them left out
FEWEST_SEEN = 10.0  # rows of a sample, below which its share says little


@dataclass(slots=True)
class Estimates:
    """Facts and estimates by one connection, each asked for once."""

    connection: Connection
    database: str
    engine: str
    catalogue: Catalogue = field(init=False)
    _samples: dict[TableName, Sample] = field(default_factory=dict)
    _facts: dict[TableName, TableFacts] = field(default_factory=dict)

    def __post_init__(self) -> None:
        """The catalogue is read by the same connection."""
        self.catalogue = Catalogue(self.connection, self.database)

    def explained(
        self, statement: Statement, *, measure: bool, on: Connection | None = None
    ) -> PlanDocument:
        """The plan of a statement, its costs with rows by a sample where the server knows none.

        It is made ``on`` another server, where one is named, with the estimates of this one.
        """
        found = explain.explained(
            on or self.connection, statement, self.engine, measure=measure, database=self.database
        )
        return self._with_shares(found, statement.sql, on or self.connection)

    def _with_shares(self, found: PlanDocument, sql: str, on: Connection) -> PlanDocument:
        """What the server does not tell of a plan: rows by a sample where it takes all to pass for
        want of statistics, columns that are converted for a comparison, costs of a table that is
        changed, and the index that gave an end before there was a plan.
        """
        shares: dict[str, float] = {}
        wholes: dict[str, tuple[float, float]] = {}
        for node in found.plan.nodes():
            if not node.share_unknown or not node.relation:
                continue
            table = self.plain(TableName(node.schema, node.relation))
            facts = self.catalogue.tables([table]).get(table)
            own = [text for text in node.conditions.filter if _asks_of(text, node.alias)]
            if facts is None or facts.rows <= 0 or not own:
                continue
            # Of those that its search leads to: conditions on one table often go together.
            led = [text for text in node.conditions.search if _asks_of(text, node.alias)]
            try:
                rows = self.rows_matching(table, node.alias, [*led, *own])
                among = self.rows_matching(table, node.alias, led) if led else facts.rows
            except HumbleError:
                continue
            shares[node.alias] = min(1.0, rows / max(1.0, among))
            wholes[node.alias] = facts.rows, self._costs().full_scan(facts)
        names = {self.plain(TableName(n.schema, n.relation)) for n in found.plan.nodes()}
        names = {name for name in names if name.name}
        said = found.document.get("warnings", ()) if isinstance(found.document, dict) else ()
        converted = converted_columns(found.plan, self.catalogue.tables(names), said)
        prices = self._prices(found)
        if not isinstance(found.document, dict):
            return found
        beforehand = index_read_at_its_end(found.plan, found.document, sql, on, self.database)
        if not (shares or converted or prices or beforehand):
            return found
        document = {**found.document, "shares": shares, "wholes": wholes, "converted": converted}
        if beforehand:
            document["beforehand"] = beforehand
        if prices:
            document["prices"] = {**found.document.get("prices", {}), **prices}
        return PlanDocument(plan_of(document, self.engine, ""), document)

    def _prices(self, found: PlanDocument) -> dict[str, list[list[object]]]:
        """Costs by the formulas, where the server tells none: for one table that is changed."""
        root = found.plan.root
        bare = [n for n in found.plan.nodes() if n.operation in SCANS and n.cost is None]
        if root.cost is not None or len(bare) != 1:
            return {}
        node = bare[0]
        table = self.plain(TableName(node.schema, node.relation))
        facts = self.catalogue.tables([table]).get(table)
        if facts is None:
            return {}
        costs = self._costs()
        rows = node.rows_expected or 0.0
        if node.operation is Operation.FULL_SCAN:
            cost = costs.full_scan(facts)
        else:
            share = min(1.0, rows / max(1.0, facts.rows))
            shape = costs.sizes.in_order(facts, ())
            cost = costs.index_scan(facts, shape, Search(share, share, 1), 0.0).total
        return {"1": [[node.alias, cost, rows, cost]]}

    def _costs(self) -> MysqlCosts:
        settings = {"mariadb": float(self._mariadb)}
        return MysqlCosts.of(ServerFacts(self.engine, "", 0, "", "", settings=settings))

    @property
    def _mariadb(self) -> bool:
        return self.connection.member.mariadb

    def rows_matching(self, table: TableName, alias: str, conditions: Sequence[str]) -> float:
        """Rows that meet all conditions: by the sample, and by the planner where it saw too few.

        The planner counts in an index that begins with the column; without one, and without a
        histogram, it knows nothing, and neither do we know more than that they are rare.
        """
        facts = self.tables([table]).get(table)
        if facts is None:
            return 0.0
        if not conditions:
            return facts.rows
        seen = self.sample(table).counts(conditions, alias or table.name)
        if seen is None:
            return self._by_planner(table, alias or table.name, conditions, facts.rows)
        met, total = seen
        if self.sample(table).whole:
            return met
        if met >= FEWEST_SEEN and total:
            return facts.rows * met / total
        planned = self._by_planner(table, alias or table.name, conditions, facts.rows)
        # More than so many would hardly show so seldom.
        most = facts.rows * (met + 2.0 * math.sqrt(met + 1.0) + 1.0) / max(1.0, total)
        if planned < most:
            return max(1.0, planned)
        alone = facts.rows * self._independently(table, alias or table.name, conditions, facts)
        wanted = alone / max(1.0, facts.rows) * total
        if met > wanted + 2.0 * math.sqrt(wanted + 1.0) + 1.0:
            alone = facts.rows * met / max(1.0, total)  # more than chance: they go together
        return max(1.0, min(alone, most))

    def _independently(
        self, table: TableName, alias: str, conditions: Sequence[str], facts: TableFacts
    ) -> float:
        """The share that meets all, with one of them at least independent of the others.

        Conditions on columns that go together are seen together often enough when that one is
        left out; of all ways the one that gives most is taken.
        """
        each = [self._share_alone(table, alias, text, facts) for text in conditions]
        found = math.prod(each)
        for left_out in range(len(conditions) if 2 < len(conditions) <= MOST_LEFT_OUT else 0):
            others = [*conditions[:left_out], *conditions[left_out + 1 :]]
            seen = self.sample(table).counts(others, alias)
            if seen is not None and seen[0] >= FEWEST_SEEN:
                found = max(found, each[left_out] * seen[0] / seen[1])
        return found

    def _share_alone(
        self, table: TableName, alias: str, condition: str, facts: TableFacts
    ) -> float:
        """The share of the rows that meet one condition."""
        seen = self.sample(table).counts([condition], alias)
        met, total = seen or (0.0, 0.0)
        if met >= FEWEST_SEEN:
            return met / total
        rare = self._rare(table, [condition], facts)
        if rare < facts.rows:
            return rare / facts.rows
        return (met + 0.5) / max(1.0, total)

    def _rare(self, table: TableName, conditions: Sequence[str], facts: TableFacts) -> float:
        """Rows of values that the sample hardly has: as many as a value has in the mean."""
        rows = facts.rows
        for text in conditions:
            for part in predicates(text):
                column = facts.columns.get(part.column.column) if part.column else None
                values = column.distinct_values(facts.rows) if column is not None else None
                if part.kind is PredicateKind.EQUALITY and values:
                    rows = min(rows, facts.rows / values)
                elif part.kind is PredicateKind.MEMBERSHIP and values and not part.negated:
                    rows = min(rows, (part.value.count(",") + 1) * facts.rows / values)
        return rows

    def _by_planner(
        self, table: TableName, alias: str, conditions: Sequence[str], rows: float
    ) -> float:
        where = " AND ".join(f"({ours(text)})" for text in conditions)
        sql = f"SELECT 1 FROM {place(table)} {quoted(alias)} WHERE {where}"
        try:
            plan = explain.explained(
                self.connection, Statement(sql), self.engine, measure=False, database=self.database
            ).plan
        except HumbleError as error:
            raise StatementRejected(error.message, error.hint) from error
        found = [n.rows_expected for n in plan.nodes() if n.alias == alias]
        return found[0] if found and found[0] is not None else min(1.0, rows)

    def rows_per_value(self, table: TableName, columns: Sequence[str]) -> float:
        """Rows that have the same values in these columns, in the mean."""
        facts = self.tables([table]).get(table)
        if facts is None:
            return 0.0
        alone = [
            facts.columns[c].distinct_values(facts.rows) or 1.0
            for c in columns
            if c in facts.columns
        ]
        both = 1.0
        if len(columns) > 1:
            keys = self.sample(table).keys([IndexKey(name) for name in columns])
            both = keys.distinct(max(1.0, facts.rows)) if keys is not None else 1.0
        return facts.rows / max(*alone, both, 1.0)

    def tables(self, names: Iterable[TableName]) -> Mapping[TableName, TableFacts]:
        """Facts about these tables, with what a sample shows of columns that no index tells of."""
        found = {}
        wanted = [self.plain(name) for name in names]
        for name, facts in self.catalogue.tables(wanted).items():
            if name not in self._facts:
                self._facts[name] = self._with_sample(facts)
            found[name] = self._facts[name]
        return found

    def plain(self, name: TableName) -> TableName:
        """The name without our own database, which goes without saying."""
        return TableName("", name.name) if name.schema == self.database else name

    def _with_sample(self, facts: TableFacts) -> TableFacts:
        names = [c.name for c in facts.columns.values() if c.sortable]
        if facts.kind != "table" or not names:
            return facts
        try:
            seen = self._sample_of(facts).shown(names)
        except HumbleError:
            return facts
        columns: dict[str, ColumnFacts] = dict(facts.columns)
        for name, shown in seen.items():
            column = columns[name]
            distinct = column.distinct
            if distinct is None and facts.rows:
                values = shown.entries.distinct(max(1.0, facts.rows * (1.0 - shown.null_share)))
                distinct = -values / facts.rows if values > facts.rows / 10 else values
            fixed = column.length_bytes > 0
            columns[name] = replace(
                column,
                distinct=distinct,
                null_share=shown.null_share,
                top_share=shown.top_share,
                mean_width_bytes=(
                    column.length_bytes if fixed else max(1, round(shown.mean_bytes))
                ),
            )
        return replace(facts, columns=columns)

    def sample(self, table: TableName) -> Sample:
        """Where rows of a table are looked at."""
        table = self.plain(table)
        if table not in self._samples:
            facts = self.catalogue.tables([table])[table]
            self._sample_of(facts)
        return self._samples[table]

    def _sample_of(self, facts: TableFacts) -> Sample:
        if facts.name in self._samples:
            return self._samples[facts.name]
        order = facts.storage.by if isinstance(facts.storage, ClusteredFacts) else ()
        begins: list[int] = []
        whole = facts.rows <= MOST_ROWS * 0.8
        first = facts.columns.get(order[0]) if order else None
        if first is not None and "int" in first.type_name and not whole:
            column, source = quoted(order[0]), place(facts.name)
            ends = self.connection.rows(f"SELECT MIN({column}), MAX({column}) FROM {source}")
            if ends and ends[0][0] is not None:
                low, high = int(ends[0][0]), int(ends[0][1])
                begins = places_in(low, high, facts.rows, facts.name.name)
        made = Sample(
            self.connection, facts.name, tuple(facts.columns), order, tuple(begins), whole
        )
        self._samples[facts.name] = made
        return made


def _asks_of(text: str, alias: str) -> bool:
    """Whether a condition asks of one table alone, by a value that is known."""
    known = "Plan " not in text and UNKNOWN_VALUE not in text
    return known and {ref.alias for ref in columns_of(text)} == {alias}
