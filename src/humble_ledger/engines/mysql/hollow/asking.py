"""A copy of a target that is asked what its planner would do; see `engines.contract.Hollow`."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.remedies.counterexamples.model import Arena
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.together import ColumnGroup
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.tokens import TokenKind, meaningful
from humble_ledger.engines.contract import ExplainOptions, Limits, PlanDocument
from humble_ledger.engines.mysql.building import require_harmless_setting
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.dialect import FAMILY
from humble_ledger.engines.mysql.hollow.filling import Filled, fill, prepare
from humble_ledger.engines.mysql.hollow.house import house_for
from humble_ledger.engines.mysql.hollow.source import SourceTable, others_of, tables_of
from humble_ledger.engines.mysql.hollow.statistics import carry, distinct_keys, read_again
from humble_ledger.engines.mysql.lexing import require_plain
from humble_ledger.engines.mysql.naming import quoted
from humble_ledger.engines.mysql.session import MysqlSession
from humble_ledger.engines.mysql.values import literal
from humble_ledger.errors import HumbleError, StatementRejected, TargetUnreachable

_AS_THEY_ARE: Mapping[TableName, float] = {}
_NAME = "humble_supposed_{}"
MOST_KEPT = 40  # supposed indexes that stay built, unseen, for when they are asked about again


@dataclass(slots=True)
class MysqlHollow:
    """See `engines.contract.Hollow`. Tables are filled when a statement first names them."""

    target: MysqlSession
    copy: Connection
    tables: Mapping[str, SourceTable]
    views: Mapping[str, str]
    progress: Callable[[str], None]
    tolerance: float = 0.25
    asked: int = 0
    _filled: dict[str, Filled] = field(default_factory=dict)
    _lacks: list[str] = field(default_factory=list)
    _numbers: dict[IndexDesign, int] = field(default_factory=dict)
    _built: dict[IndexDesign, bool] = field(default_factory=dict)  # and whether it is seen
    _hidden: set[tuple[str, str]] = field(default_factory=set)

    @property
    def database(self) -> str:
        """The target's, and so the copy's."""
        return self.target.database

    @property
    def notes(self) -> Sequence[str]:
        """What could not be carried over."""
        lacks = [each.lack for each in self._filled.values() if each.lack]
        return [*self._lacks, *lacks]

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
            raise StatementRejected("The copy of such a server has as many rows as the target.")
        if together:
            raise StatementRejected(
                "Such a server keeps no statistics of several columns but of indexes."
            )
        self._fill_for(statement)
        for design in designs:
            self._fill(design.table.name)
        self._show(designs, {(each.name) for each in without})
        self.asked += 1
        with self._settings(options):
            return self.target.known.explained(statement, measure=False, on=self.copy)

    def names(self, designs: Mapping[IndexDesign, IndexShape]) -> Mapping[str, IndexDesign]:
        """What supposed indexes are called in plans."""
        return {self._name(design): design for design in designs}

    def forget(self, designs: Mapping[IndexDesign, IndexShape]) -> None:
        """They stay unseen until there are too many."""

    @contextmanager
    def arena(self, tables: Sequence[TableName]) -> Iterator[Arena]:
        """Not yet."""
        raise TargetUnreachable("Statements are not compared on small databases of this kind yet.")
        yield

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
        self.progress(f"making rows like those of {table.name}")
        known = self.target.known
        facts = known.catalogue.tables([TableName("", table.name)]).get(TableName("", table.name))
        rows = facts.rows if facts is not None else 0.0
        self._filled[table.name] = fill(
            self.target.connection, self.copy, self.database, table, rows
        )
        carry(self.target.connection, self.copy, self.database, table.name)

    # What is supposed

    def _name(self, design: IndexDesign) -> str:
        number = self._numbers.setdefault(design, len(self._numbers) + 1)
        return _NAME.format(number)

    def _show(self, designs: Mapping[IndexDesign, IndexShape], gone: set[str]) -> None:
        """Make exactly these indexes seen, and of the target's all but those that are gone."""
        for design, seen in list(self._built.items()):
            if seen and design not in designs:
                self._see(design.table.name, self._name(design), seen=False)
                self._built[design] = False
        for design in designs:
            if design not in self._built:
                self._make_room(designs)
                self._build(design)
            elif not self._built[design]:
                self._see(design.table.name, self._name(design), seen=True)
            self._built[design] = True
        wanted = {
            (table.name, name)
            for name in gone
            for table in self.tables.values()
            if self._has(table.name, name)
        }
        for table, name in self._hidden - wanted:
            self._see(table, name, seen=True)
        for table, name in wanted - self._hidden:
            self._fill(table)
            self._see(table, name, seen=False)
        self._hidden = wanted

    def _see(self, table: str, name: str, *, seen: bool) -> None:
        word = "NOT IGNORED" if seen else "IGNORED"
        if not self.copy.member.mariadb:
            word = "VISIBLE" if seen else "INVISIBLE"
        self.copy.do(f"ALTER TABLE {self._place(table)} ALTER INDEX {quoted(name)} {word}")

    def _has(self, table: str, index: str) -> bool:
        facts = self.target.known.catalogue.tables([TableName("", table)])
        return any(f.index(index) is not None for f in facts.values())

    def _build(self, design: IndexDesign) -> None:
        name, table = self._name(design), design.table.name
        self.copy.do(design.create_sql(name, FAMILY))
        filled = self._filled.get(table)
        if filled is not None and filled.read < filled.rows:
            self._tell_keys(design, name)

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
        distinct_keys(self.copy, self.database, table.name, name, counts)
        read_again(self.copy, self.database, table.name)

    def _make_room(self, wanted: Mapping[IndexDesign, IndexShape]) -> None:
        for design in [d for d in self._built if d not in wanted][
            : max(0, len(self._built) + 1 - MOST_KEPT)
        ]:
            self.copy.do(design.drop_sql(self._name(design), FAMILY))
            del self._built[design]

    def _place(self, table: str) -> str:
        return f"{quoted(self.database)}.{quoted(table)}"

    @contextmanager
    def _settings(self, options: ExplainOptions) -> Iterator[None]:
        before: list[tuple[str, object]] = []
        try:
            for name, value in options.settings:
                require_harmless_setting(name)
                before.append((name, self.copy.one(f"SELECT @@SESSION.{quoted(name)}")))
                self.copy.do(f"SET SESSION {quoted(name)} = {literal(value)}")
            yield
        finally:
            for name, value in reversed(before):
                self.copy.asked(f"SET SESSION {quoted(name)} = %s", value)


def _names_in(plain: str) -> set[str]:
    """Every name in a text by the standard's lexical rules, in small letters."""
    return {
        token.text.strip('"').lower()
        for token in meaningful(plain)
        if token.kind in (TokenKind.WORD, TokenKind.QUOTED)
    }


@contextmanager
def hollow_of(
    url: str, limits: Limits, engine: str, progress: Callable[[str], None]
) -> Iterator[MysqlHollow]:
    """A copy for as long as it is asked.

    Raises:
        HumbleError: there are no programs for it here, or the target cannot be read.
    """
    target = MysqlSession(url, limits, engine)
    try:
        with house_for(target.connection) as copy:
            progress("making a copy of the schema")
            yield _made(target, copy, progress)
    finally:
        target.close()


def _made(target: MysqlSession, copy: Connection, progress: Callable[[str], None]) -> MysqlHollow:
    database = target.database
    charset, collation = target.connection.rows(
        "SELECT @@character_set_database, @@collation_database"
    )[0]
    prepare(copy)
    copy.do(f"CREATE DATABASE {quoted(database)} CHARACTER SET {charset} COLLATE {collation}")
    copy.do(f"USE {quoted(database)}")
    copy.do("SET SESSION foreign_key_checks = 0")
    lacks, tables = [], {}
    for table in tables_of(target.connection, database):
        try:
            copy.do(table.sql)
            tables[table.name.lower()] = table
        except HumbleError as error:
            lacks.append(f"{table.name} cannot be made again: {error.message}")
    waiting = list(others_of(target.connection, database))
    views = {name.lower(): sql for name, sql in waiting if " VIEW " in sql[:200]}
    while waiting:  # a view may rest on others
        left = []
        for name, sql in waiting:
            try:
                copy.do(sql)
            except HumbleError:
                left.append((name, sql))
        if len(left) == len(waiting):
            lacks += [f"{name} cannot be made again" for name, _ in left]
            break
        waiting = left
    with contextlib.suppress(HumbleError):
        copy.do("SET SESSION foreign_key_checks = 1")
    return MysqlHollow(target, copy, tables, views, progress, _lacks=lacks)
