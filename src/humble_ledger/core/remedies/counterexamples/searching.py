"""The search itself: databases until one tells two statements apart, made as small as it goes."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from random import Random

from humble_ledger.core.remedies.counterexamples.constants import columns_named, constants
from humble_ledger.core.remedies.counterexamples.making import Maker
from humble_ledger.core.remedies.counterexamples.model import (
    Answer,
    Arena,
    Condition,
    Demand,
    Enough,
    Example,
    Filled,
    Row,
    Search,
    SmallDatabase,
)
from humble_ledger.core.remedies.operations import RewriteStatement
from humble_ledger.core.remedies.rewrites.model import parsed
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.kinds import Statement

DATABASES = 300
MOST_CONDITIONS = 3
_SHORT = 3  # a value of so many characters is easily read
_TRIED = 4  # other values in its place
_PARENTS = 24  # databases with an answer, from which others are made


@dataclass(frozen=True, slots=True)
class Pair:
    """A statement and the one that is to take its place.

    ``values_from`` is a statement whose one row gives the new one's parameters.
    """

    old: Statement
    new: Statement
    values_from: str = ""

    @classmethod
    def of(cls, old: Statement, text: RewriteStatement) -> Pair:
        """A statement with its values, and its rewriting with the same or its own."""
        values = () if text.values_from else old.values
        return cls(old, Statement(text.new, values), text.values_from)

    @property
    def ordered(self) -> bool:
        """Whether the old statement says in which order its rows come."""
        tree = parsed(self.old.sql)
        return tree is not None and bool(tree.args.get("order"))


def search(
    arena: Arena,
    tables: Mapping[TableName, TableFacts],
    pair: Pair,
    *,
    enough: Enough = lambda: False,
    databases: int = DATABASES,
    seed: int = 0,
) -> Search:
    """Try to tell two statements apart; ``enough`` ends it early.

    With an example in hand it is asked whether one thing more known of the data (no NULL in a
    column, no value twice) would make the two the same.
    """
    hunt = _Hunt.begin(arena, tables, pair, enough)
    if isinstance(hunt, str):
        return Search(unable=hunt)
    first = hunt.run((), databases, Random(seed))
    if first.example is None:
        return first
    # Half as many for each condition: there may be several.
    missing = hunt.conditions_for(first.example, databases // 2, seed)
    return replace(first, missing=missing)


@dataclass(slots=True)
class _Hunt:
    """One pair of statements on one arena."""

    arena: Arena
    tables: Mapping[TableName, TableFacts]
    pair: Pair
    pools: Mapping[TableName, Mapping[str, list[str]]]
    named: frozenset[str] | None
    ordered: bool
    enough: Enough

    @classmethod
    def begin(
        cls, arena: Arena, tables: Mapping[TableName, TableFacts], pair: Pair, enough: Enough
    ) -> _Hunt | str:
        """Know which values to try; why that cannot be told, else."""
        compared: dict[str, list[str]] = {}
        for statement in (pair.old, pair.new):
            for name, some in constants(statement).items():
                compared.setdefault(name, []).extend(some)
        named = [columns_named(s) for s in (pair.old, pair.new)]
        pools: dict[TableName, Mapping[str, list[str]]] = {}
        for table, facts in tables.items():
            found = arena.typical(table, compared)
            for column, values in found.items():
                if not values and facts.columns[column].not_null:
                    type_ = facts.columns[column].type_name
                    return f"no values of the type {type_} are known"
            pools[table] = {c: list(v) for c, v in found.items() if c in facts.columns}
        all_named = None if None in named else frozenset().union(*(n for n in named if n))
        return cls(arena, tables, pair, pools, all_named, pair.ordered, enough)

    def run(self, conditions: tuple[Condition, ...], databases: int, random: Random) -> Search:
        """Databases that meet the conditions, until one tells the statements apart."""
        maker = Maker(self.tables, self.pools, random, conditions)
        parents: list[SmallDatabase] = []
        tried = told = with_rows = 0
        refusal = ""
        while tried < databases and not self.enough():
            grown = bool(parents) and random.random() < 0.5
            made = maker.like(random.choice(parents)) if grown else maker.fresh()
            tried += 1
            answers = self._answers(made, maker)
            if answers is None:
                continue
            if answers.old.error:
                refusal = answers.old.error
                continue
            told += 1
            if answers.old.rows:
                with_rows += 1
                parents = [*parents, answers.database][-_PARENTS:]
            if self._differ(answers, maker):
                return Search(told, with_rows, self._smallest(answers, maker))
        if told:
            return Search(told, with_rows)
        nothing = "no small database could be made"
        if self.pair.values_from:
            nothing = "a few rows give no values for its parameters"
        return Search(unable=refusal or nothing)

    def conditions_for(self, example: Example, databases: int, seed: int) -> tuple[Condition, ...]:
        """Conditions under which no example is found any more; none when none would do."""
        given: tuple[Condition, ...] = ()
        found: Example | None = example
        while found is not None and len(given) < MOST_CONDITIONS and not self.enough():
            nulls = tuple(
                Condition(table, column, Demand.NEVER_NULL)
                for table, rows in found.database.rows.items()
                for row in rows
                for column, value in row.items()
                if value is None and self._is_named(column)
            )
            new = tuple(c for c in dict.fromkeys(nulls) if c not in given)
            if new:
                given = (*given, *new)
            else:
                return self._with_unique(found, given, databases, seed)
            found = self.run(given, databases, Random(seed)).example
        return given if found is None and not self.enough() else ()

    def _with_unique(
        self, example: Example, given: tuple[Condition, ...], databases: int, seed: int
    ) -> tuple[Condition, ...]:
        for each in self._repeated(example.database):
            more = (*given, each)
            if self.run(more, databases, Random(seed)).example is None and not self.enough():
                return more
        return ()

    def _repeated(self, database: SmallDatabase) -> Iterator[Condition]:
        for table, rows in database.rows.items():
            for column in self.pools[table]:
                values = [row.get(column) for row in rows]
                if self._is_named(column) and len(set(values)) < len(values):
                    yield Condition(table, column, Demand.UNIQUE)

    def _is_named(self, column: str) -> bool:
        return self.named is None or column in self.named

    def _answers(
        self, made: SmallDatabase, maker: Maker, *, backwards: bool = False
    ) -> Example | None:
        """What both statements say of a database; None when it cannot be put there.

        Without rows that a constraint refuses, others may refer to what is not there.
        """
        with self.arena.filled(made, backwards=backwards) as there:
            left = there.database
            if left.size < made.size:
                left = maker.allowed(left)
            if left == there.database:
                return self._asked(there)
        with self.arena.filled(left, backwards=backwards) as there:
            return self._asked(there) if there.database.size == left.size else None

    def _asked(self, there: Filled) -> Example | None:
        """The answers; where the old statement fails, what the new one says does not matter."""
        old = there.ask(self.pair.old)
        if old.error:
            return Example(there.database, old, Answer())
        new = self.pair.new
        if self.pair.values_from:
            given = there.ask(Statement(self.pair.values_from))
            if given.error or len(given.rows) != 1:
                return None
            new = replace(new, values=given.rows[0])
        return Example(there.database, old, there.ask(new))

    def _differ(self, answers: Example, maker: Maker) -> bool:
        """Whether the statements differ, and not only where the old one may choose.

        A statement that says something else of the same rows in another order (ties under
        LIMIT, sums of floating-point numbers, the clock) proves nothing.
        """
        if answers.old.error or not self._unlike(answers.old, answers.new):
            return False
        again = self._answers(answers.database, maker, backwards=True)
        return (
            again is not None
            and not again.old.error
            and not self._unlike(answers.old, again.old)
            and self._unlike(again.old, again.new)
        )

    def _unlike(self, one: Answer, other: Answer) -> bool:
        if one.error or other.error:
            return bool(one.error) != bool(other.error)
        return one.rows != other.rows if self.ordered else one.bag != other.bag

    def _smallest(self, found: Example, maker: Maker) -> Example:
        """The example without whatever it does not need."""
        best = found
        again = True
        while again and not self.enough():
            again = False
            for smaller in _smaller(best.database, self.pools):
                answers = self._answers(maker.allowed(smaller), maker)
                if answers is None or not self._simpler(answers.database, best.database):
                    continue
                if self._differ(answers, maker):
                    best, again = answers, True
                    break
        return replace(best, database=self._shown(best.database))

    def _simpler(self, one: SmallDatabase, other: SmallDatabase) -> bool:
        return _weight(one) < _weight(other)

    def _shown(self, database: SmallDatabase) -> SmallDatabase:
        """A database with only those columns that a statement names."""
        return replace(
            database,
            rows={
                table: tuple({c: v for c, v in row.items() if self._is_named(c)} for row in rows)
                for table, rows in database.rows.items()
            },
        )


def _weight(database: SmallDatabase) -> tuple[int, int, int, bool, int]:
    """What makes an example hard to read: rows, NULLs, repeated values, a time zone, length."""
    nulls = again = 0
    for rows in database.rows.values():
        nulls += sum(v is None for row in rows for v in row.values())
        for column in {c for row in rows for c in row}:
            values = [row.get(column) for row in rows]
            again += len(values) - len(set(values))
    length = sum(len(v or "") for r in database.rows.values() for row in r for v in row.values())
    return database.size, nulls, again, bool(database.time_zone), length


def _smaller(
    database: SmallDatabase, pools: Mapping[TableName, Mapping[str, list[str]]]
) -> Iterator[SmallDatabase]:
    """Databases that are simpler by one step."""
    if database.time_zone:
        yield replace(database, time_zone="")
    for table, rows in database.rows.items():
        for place in range(len(rows)):
            yield _with(database, table, (*rows[:place], *rows[place + 1 :]))
    for table, rows in database.rows.items():
        for place, row in enumerate(rows):
            others = [r for n, r in enumerate(rows) if n != place]
            for column, value in row.items():
                repeated = any(r.get(column) == value for r in others)
                if value is None or repeated or len(value) > _SHORT:
                    for other in pools[table].get(column, ())[:_TRIED]:
                        if other != value:
                            changed: Row = {**row, column: other}
                            yield _with(
                                database, table, (*rows[:place], changed, *rows[place + 1 :])
                            )


def _with(database: SmallDatabase, table: TableName, rows: tuple[Row, ...]) -> SmallDatabase:
    return replace(database, rows={**database.rows, table: rows})
