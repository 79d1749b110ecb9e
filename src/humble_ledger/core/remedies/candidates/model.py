"""What candidates are made of: how a plan reads a table, and an index that might serve it."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace

from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.messages import Message
from humble_ledger.core.plans.model import Node
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.beginnings import Beginning
from humble_ledger.core.schema.facts import IndexKey, TableFacts, TableName
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.conditions import Predicate


@dataclass(frozen=True, slots=True)
class Access:
    """How a plan reads one table under one alias: conditions on it alone, joins, order.

    ``equalities`` and ``ranges`` compare bare columns; ``others`` are the conditions that no
    plain b-tree serves. ``groups`` are the columns that the step above groups by; ``met`` are
    joins by which an index of another table is searched, which could go the other way round.
    """

    node: Node
    table: TableFacts
    alias: str
    equalities: tuple[Predicate, ...]
    ranges: tuple[Predicate, ...]
    others: tuple[Predicate, ...]
    joins: tuple[Predicate, ...]
    order: tuple[IndexKey, ...]
    groups: tuple[str, ...] = ()
    met: tuple[Predicate, ...] = ()

    @property
    def conditions(self) -> tuple[Predicate, ...]:
        """Every condition on this table alone."""
        return (*self.equalities, *self.ranges, *self.others)


@dataclass(frozen=True, slots=True)
class Candidate:
    """An index that might serve one access, and why it came up.

    Where it is of no use alone it may be ``beside`` some others, of which each is a candidate, too.
    """

    design: IndexDesign
    access: Access
    reason: Message
    beside: tuple[IndexDesign, ...] = ()


# Characters of which a key holds the first; beyond these it is hardly smaller than the values.
LENGTHS = (8, 12, 16, 24, 32, 48, 64, 96, 128)
TELLING = 0.95  # of the values that the longest of these tells apart
CHARACTER_BYTES = 4


def _no_sample(_: TableName, __: IndexKey) -> KeySample | None:
    return None


def _never(_: Predicate) -> bool:
    return False


def _no_more(_: Access) -> Iterable[Candidate]:
    return ()


def _nothing(_: TableName, __: str) -> bool:
    return False


@dataclass(frozen=True, slots=True)
class IndexAbilities:
    """What a server and its application allow.

    ``always`` tells whether a condition has the same constants whenever the query is sent;
    ``is_immutable`` whether the server may keep an index on an expression or a condition, because
    it never gives another result for the same row; ``operator_classes`` are the server's, as
    "method:class"; ``methods`` the kinds of index it has, and ``includes`` whether one can hold
    columns that are no keys; ``more`` gives candidates that only this server has a use for. The
    keys of an index have ``most_key_bytes`` together; 0: no limit that counts. ``sampled`` tells
    what an index on one key would have in it, where keys can hold the beginnings of values;
    ``keys_tell_kinds`` as in `Dialect`.
    """

    always: Callable[[Predicate], bool] = _never
    is_immutable: Callable[[TableName, str], bool] = _nothing
    operator_classes: frozenset[str] = field(default=frozenset())
    methods: frozenset[str] = frozenset(IndexMethod)
    includes: bool = True
    more: Callable[[Access], Iterable[Candidate]] = _no_more
    most_key_bytes: int = 0
    keys_tell_kinds: bool = False
    sampled: Callable[[TableName, IndexKey], KeySample | None] = _no_sample

    def possible(self, design: IndexDesign, table: TableFacts) -> IndexDesign | None:
        """The design as it can be had: further columns as keys where there is no other way.

        Of a column whose values are too long, their beginnings. None where there is no such index,
        or its keys cannot be as long.
        """
        if design.method not in self.methods:
            return None
        if not design.included and not self._short_enough(design, table):
            return self._shortened(design, table)
        if not self.includes and design.included:
            keys = (*design.keys, *(IndexKey(name) for name in design.included))
            design = replace(design, keys=keys, included=())
        return design if self._short_enough(design, table) else None

    def _shortened(self, design: IndexDesign, table: TableFacts) -> IndexDesign | None:
        """The same with the beginnings of values that are too long; None where that does not do."""
        keys, width = [], 0
        for key in design.keys:
            if not key.column or self._short_enough(replace(design, keys=(key,)), table):
                keys.append(key)
                width += self._width(replace(design, keys=(key,)), table)
                continue
            length = self._telling_length(table, key.column)
            if length is None:
                return None
            keys.append(Beginning(key.column, length).key)
            width += length * CHARACTER_BYTES
        return replace(design, keys=tuple(keys)) if width <= self.most_key_bytes else None

    def _telling_length(self, table: TableFacts, column: str) -> int | None:
        """How many first characters tell values apart nearly as well as the whole; None: unknown.

        Every sampled length has the same rows, so what differs is what they leave together.
        """
        most = self.sampled(table.name, Beginning(column, LENGTHS[-1]).key)
        if most is None or not most.distinct_seen:
            return None
        for length in LENGTHS:
            found = self.sampled(table.name, Beginning(column, length).key)
            if found is not None and found.distinct_seen >= TELLING * most.distinct_seen:
                return length
        return None

    def _short_enough(self, design: IndexDesign, table: TableFacts) -> bool:
        if not self.most_key_bytes:
            return True
        columns = [table.columns[name] for name in design.key_columns if name in table.columns]
        fits = self._width(design, table) <= self.most_key_bytes
        return fits and all(c.sortable for c in columns)

    def _width(self, design: IndexDesign, table: TableFacts) -> int:
        """The bytes that its keys may take at most."""
        columns = [table.columns[name] for name in design.key_columns if name in table.columns]
        return sum(c.longest_bytes or max(c.length_bytes, 0) for c in columns)
