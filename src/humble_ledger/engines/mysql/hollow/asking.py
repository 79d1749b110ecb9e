"""A copy of a target that is asked what its planner would do; see `engines.contract.Hollow`."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.plans.model import Node, Plan
from humble_ledger.core.remedies.counterexamples.model import Arena
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.together import ColumnGroup
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.conditions import columns_of
from humble_ledger.core.statements.kinds import Statement, StatementKind
from humble_ledger.core.statements.tokens import TokenKind, meaningful
from humble_ledger.engines.contract import ExplainOptions, PlanDocument
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.dialect import FAMILY
from humble_ledger.engines.mysql.explain import kind, prepared
from humble_ledger.engines.mysql.hollow.arena import arena_over
from humble_ledger.engines.mysql.hollow.filling import Filled, fill
from humble_ledger.engines.mysql.hollow.kept import KeptTable, still_like
from humble_ledger.engines.mysql.hollow.source import SourceTable
from humble_ledger.engines.mysql.hollow.statistics import Carried, distinct_keys
from humble_ledger.engines.mysql.hollow.warming import Warmth
from humble_ledger.engines.mysql.ignoring import without
from humble_ledger.engines.mysql.lexing import require_plain
from humble_ledger.engines.mysql.naming import quoted
from humble_ledger.engines.mysql.restoring import reading, undone, with_settings
from humble_ledger.engines.mysql.session import MysqlSession
from humble_ledger.errors import (
    HumbleError,
    RefusedForSafety,
    StatementRejected,
    TargetUnreachable,
)

_AS_THEY_ARE: Mapping[TableName, float] = {}
SUPPOSED = "humble_supposed_{}"
MOST_KEPT = 40  # supposed indexes of a table that stay built for when they are asked about again
MOST_AT_ONCE = 12  # each takes a second for a million rows


@dataclass(slots=True)
class MysqlHollow:
    """See `engines.contract.Hollow`. Tables are filled when a statement first names them."""

    target: MysqlSession
    copy: Connection
    owner: Connection
    url: str
    tables: Mapping[str, SourceTable]
    views: Mapping[str, str]
    progress: Callable[[str], None]
    warmth: Warmth
    tolerance: float = 0.25
    most_at_once: int = MOST_AT_ONCE
    asked: int = 0
    _known: dict[str, KeptTable] = field(default_factory=dict)  # by name, what stands in the copy
    _filled: dict[str, Filled] = field(default_factory=dict)
    _carried: dict[str, Carried] = field(default_factory=dict)
    _failed: dict[str, str] = field(default_factory=dict)
    _lacks: list[str] = field(default_factory=list)
    _numbers: dict[IndexDesign, int] = field(default_factory=dict)
    _built: list[IndexDesign] = field(default_factory=list)  # the oldest first
    _hidden: set[tuple[str, str]] = field(default_factory=set)

    @property
    def database(self) -> str:
        """The target's, and so the copy's."""
        return self.target.database

    @property
    def notes(self) -> Sequence[str]:
        """What could not be carried over."""
        lacks = [each.lack for each in self._filled.values() if each.lack]
        return [*self._lacks, *self._failed.values(), *lacks]

    def explain(
        self,
        statement: Statement,
        designs: Mapping[IndexDesign, IndexShape],
        options: ExplainOptions = ExplainOptions(),  # noqa: B008
        *,
        without: Collection[TableName] = (),
        rows: Mapping[TableName, float] = _AS_THEY_ARE,
        longer_history: bool = False,
        together: Collection[ColumnGroup] = (),
    ) -> PlanDocument:
        """The plan if these indexes were there; see `engines.contract.Hollow`."""
        if rows or longer_history:
            raise StatementRejected(
                f"Growing tables are not supposed on {self.target.connection.member.name}: its "
                "planner counts entries, and the copy has as many as the target.",
                "Fill a table of your own, and give it with --target.",
            )
        if together:
            raise StatementRejected(
                "Such a server keeps no statistics of several columns but of indexes."
            )
        self._fill_for(statement)
        for design in designs:
            self._fill(design.table.name)
        shown = self._show(statement, designs, {each.name for each in without})
        self.warmth.restore()
        self.asked += 1
        changes = kind(shown.sql, self.copy.modes) is StatementKind.CHANGES
        held = undone(self.copy) if changes else reading(self.copy)
        with with_settings(self.copy, options.settings), held:
            found = self.target.known.explained(shown, measure=False, on=self.copy)
        self._require_counted(found.plan)
        return found

    def names(self, designs: Mapping[IndexDesign, IndexShape]) -> Mapping[str, IndexDesign]:
        """What supposed indexes are called in plans."""
        return {self._name(design): design for design in designs}

    def guesses(self, design: IndexDesign) -> bool:
        """See `engines.contract.Hollow`: its rows are there."""
        return False

    def forget(self, designs: Mapping[IndexDesign, IndexShape]) -> None:
        """They stay unseen until there are too many."""

    @contextmanager
    def arena(self, tables: Sequence[TableName]) -> Iterator[Arena]:
        """These tables with nothing in them, in a database of their own."""
        known = {}
        for name in tables:
            table = self.tables.get(name.name.lower())
            if table is None:
                raise TargetUnreachable(f"There is no table {name} in the copy.")
            known[name] = table
        with arena_over(self.url, self.target.connection.modes, known, self.views) as made:
            yield made

    def _require_counted(self, plan: Plan) -> None:
        """Make sure that no range was counted in a table of which the copy has only a part.

        Raises:
            StatementRejected: one was.
        """
        short = {each.table for each in self._filled.values() if each.partial}
        for node in plan.nodes():
            if node.relation in short and node.index and _by_values(node):
                raise StatementRejected(
                    f"The copy has a part of the rows of {node.relation} only, and the planner "
                    "counted in it."
                )

    # The tables

    def _fill_for(self, statement: Statement) -> None:
        """Fill the tables that a statement names, itself or through views."""
        texts, seen = [require_plain(statement.sql, self.copy.modes)], set()
        while texts:
            for name in _names_in(texts.pop()):
                if name in seen:
                    continue
                seen.add(name)
                if name in self.views:
                    texts.append(require_plain(self.views[name], self.copy.modes))
                elif name in self.tables:
                    self._fill(name)

    def _fill(self, name: str) -> None:
        table = self.tables.get(name.lower())
        if table is None or table.name in self._filled:
            return
        if table.name in self._failed:
            raise StatementRejected(self._failed[table.name])
        known = self.target.known
        facts = known.catalogue.tables([TableName("", table.name)]).get(TableName("", table.name))
        rows = facts.rows if facts is not None else 0.0
        target = self.target.connection
        try:
            filled = self._rows_of(table, rows)
            carried = Carried.of(target, self.database, table.name)
            carried.write(self.owner)
            self.warmth.like(target, table.name, filled.rows)
        except HumbleError as error:
            # Trying again for each further question would take as long each time.
            self._failed[table.name] = f"{table.name} is not in the copy: {error.message}"
            raise
        self._filled[table.name], self._carried[table.name] = filled, carried

    def _rows_of(self, table: SourceTable, rows: float) -> Filled:
        """Fill a table, unless it was filled before and the target's has not changed since."""
        target, known = self.target.connection, self._known.pop(table.name)
        if known.filled is not None:
            if still_like(target, self.database, table.name, known, rows):
                self._known[table.name] = known
                return known.filled
            self.copy.do("SET SESSION foreign_key_checks = 0")
            self.copy.do(f"DROP TABLE {self._place(table.name)}")
            self.copy.do(table.sql)
            self.copy.do("SET SESSION foreign_key_checks = 1")
        self.progress(f"making rows like those of {table.name}")
        asked_at = float(target.one("SELECT UNIX_TIMESTAMP()"))
        filled = fill(target, self.copy, self.database, table, rows)
        self._known[table.name] = KeptTable(table.sql, filled, asked_at, rows)
        return filled

    def kept(self) -> Mapping[str, KeptTable]:
        """What can be used the next time, with all indexes seen again."""
        self._hide(set())
        return self._known

    # What is supposed

    def _name(self, design: IndexDesign) -> str:
        number = self._numbers.setdefault(design, len(self._numbers) + 1)
        return SUPPOSED.format(number)

    def _show(
        self, statement: Statement, designs: Mapping[IndexDesign, IndexShape], gone: set[str]
    ) -> Statement:
        """The statement, with exactly these indexes seen, and not those that are gone.

        Telling one statement to ignore an index costs nothing, changing the table for it does.
        """
        for design in designs:
            if design not in self._built:
                self._make_room(design.table, designs)
                self._build(design)
        hidden = [(d.table.name, self._name(d)) for d in self._built if d not in designs]
        hidden += [
            (table.name, name)
            for name in gone
            for table in self.tables.values()
            if self._has(table.name, name)
        ]
        sql = prepared(self.copy, statement)
        shown = ""
        # MySQL prices the first rows in an order otherwise where a better index is ignored.
        if self.copy.member.mariadb and not self._through_views(sql):
            with suppress(RefusedForSafety):
                shown = without(sql, tuple(sorted(hidden)))
        self._hide(set() if shown or not hidden else set(hidden))
        return Statement(shown or sql)

    def _through_views(self, sql: str) -> bool:
        """Whether a statement reads tables by a view, where it cannot tell what to ignore."""
        return not self.views.keys().isdisjoint(_names_in(require_plain(sql, self.copy.modes)))

    def _hide(self, wanted: set[tuple[str, str]]) -> None:
        """Have the server ignore these indexes in every statement, and no others."""
        for table in {name for name, _ in self._hidden ^ wanted}:
            changes = [
                f"ALTER INDEX {quoted(name)} {self._word(seen=(each, name) not in wanted)}"
                for each, name in sorted(self._hidden ^ wanted)
                if each == table
            ]
            self._fill(table)
            self.copy.do(f"ALTER TABLE {self._place(table)} {', '.join(changes)}")
            self._as_on_target(table)
        self._hidden = set(wanted)

    def _word(self, *, seen: bool) -> str:
        if self.copy.member.mariadb:
            return "NOT IGNORED" if seen else "IGNORED"
        return "VISIBLE" if seen else "INVISIBLE"

    def _has(self, table: str, index: str) -> bool:
        facts = self.target.known.catalogue.tables([TableName("", table)])
        return any(f.index(index) is not None for f in facts.values())

    def _build(self, design: IndexDesign) -> None:
        name, table = self._name(design), design.table.name
        self.copy.do(design.create_sql(name, FAMILY))
        self._built.append(design)
        self.warmth.built()
        filled = self._filled.get(table)
        if filled is not None and filled.read < filled.rows:
            self._tell_keys(design, name)
        self._as_on_target(table)

    def _as_on_target(self, table: str) -> None:
        """The target's statistics again, behind what changed the indexes of a table."""
        carried = self._carried.get(table)
        if carried is not None:
            mine = [self._name(d) for d in self._built if d.table.name == table]
            carried.write(self.owner, mine)

    def _tell_keys(self, design: IndexDesign, name: str) -> None:
        """How many different keys there are by the sample of the target: rows made up tell less."""
        table = design.table
        facts = self.target.known.tables([table]).get(table)
        if facts is None:
            return
        counts = []
        for number in range(1, len(design.keys) + 1):
            each = self.target.known.rows_per_value(table, design.key_columns[:number])
            counts.append(facts.rows / max(each, 1e-9))
        distinct_keys(self.owner, self.database, table.name, name, counts)

    def _make_room(self, table: TableName, wanted: Mapping[IndexDesign, IndexShape]) -> None:
        """A table takes 64 indexes: those that nobody asks about now make room for others."""
        mine = [d for d in self._built if d.table == table]
        old = [d for d in mine if d not in wanted][: max(0, len(mine) + 1 - MOST_KEPT)]
        for design in old:
            name = self._name(design)
            self.copy.do(design.drop_sql(name, FAMILY))
            self._built.remove(design)
            self._hidden.discard((table.name, name))
        if old:
            self._as_on_target(table.name)

    def _place(self, table: str) -> str:
        return f"{quoted(self.database)}.{quoted(table)}"


def _by_values(node: Node) -> bool:
    """Whether an index is searched for values that the statement gives, and not for a join's."""
    texts = node.conditions.search
    return any({ref.alias for ref in columns_of(text)} <= {node.alias} for text in texts)


def _names_in(plain: str) -> set[str]:
    """Every name in a text by the standard's lexical rules, in small letters."""
    return {
        token.text.strip('"').lower()
        for token in meaningful(plain)
        if token.kind in (TokenKind.WORD, TokenKind.QUOTED)
    }
