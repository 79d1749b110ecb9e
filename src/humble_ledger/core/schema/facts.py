"""What a server knows of its tables; sizes and counts at the moment of asking."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime

STALE_SHARE = 0.1  # of the rows, where the server does not say
SEEN_WITHIN = 0.02  # of the rows that the statistics were gathered from


@dataclass(frozen=True, slots=True)
class TableName:
    """A table by schema and name, both as the catalogue spells them."""

    schema: str
    name: str

    def __str__(self) -> str:
        """The name as people read it; the schema public goes without saying."""
        shown = self.name if self.schema in ("public", "") else f"{self.schema}.{self.name}"
        return shown.replace("\n", "\\n")  # it is always part of a line


@dataclass(frozen=True, slots=True)
class ColumnFacts:
    """One column and its statistics (None where none were gathered).

    ``length_bytes`` is the fixed length of the type, negative for varying types;
    ``alignment_bytes`` 1, 2, 4 or 8. ``distinct`` counts values when positive; when negative
    it is minus the share of rows that are distinct. ``correlation`` runs from -1 to 1.
    ``top_share`` is the share of rows with the most common value; ``common_count`` values are
    listed as common, which ``common_share`` of the rows have together and ``rarest_share`` the
    last of them. ``target`` is how many the server lists at most. ``collation`` is the one its
    values are sorted by, "" where they have none; ``sorted_by_bytes`` tells that it compares
    them byte by byte, ``like_in_any_order`` that an index finds the beginnings that LIKE asks for
    whatever the collation, and none of a regular expression. ``base_type`` is the type that a
    domain restricts. A tree of enclosing shapes finds its values by ``enclosing_operators`` and
    ``enclosing_functions``, and the nearest first by ``nearness_operators``; all empty for a type
    without such an index. A type that is not ``sortable`` has no order that an index could keep. No
    value is longer than ``longest_bytes``, where that is known. Of a partitioned table
    ``distinct_in_parts`` is the sum of what the partitions have. ``labelled`` tells that its values
    are the labels of an enumeration.
    """

    name: str
    type_name: str
    position: int
    not_null: bool
    length_bytes: int
    alignment_bytes: int
    mean_width_bytes: int | None = None
    null_share: float | None = None
    distinct: float | None = None
    correlation: float | None = None
    top_share: float | None = None
    common_count: int = 0
    common_share: float = 0.0
    rarest_share: float = 0.0
    target: int | None = None
    collation: str = ""
    sorted_by_bytes: bool = True
    like_in_any_order: bool = False
    base_type: str = ""
    enclosing_operators: frozenset[str] = frozenset()
    enclosing_functions: frozenset[str] = frozenset()
    nearness_operators: frozenset[str] = frozenset()
    sortable: bool = True
    longest_bytes: int | None = None
    distinct_in_parts: float | None = None
    labelled: bool = False

    def distinct_values(self, rows: float) -> float | None:
        """How many distinct values the statistics promise in a table of ``rows`` rows."""
        if self.distinct is None:
            return None
        return self.distinct if self.distinct >= 0 else -self.distinct * rows


@dataclass(frozen=True, slots=True)
class IndexKey:
    """One key of an index: a column, or an expression when ``column`` is empty.

    ``operator_class`` and ``collation`` are empty where they are the column's own;
    ``sorted_by_bytes`` tells of the collation when it is not.
    """

    column: str
    expression: str = ""
    descending: bool = False
    nulls_first: bool = False
    operator_class: str = ""
    collation: str = ""
    sorted_by_bytes: bool = field(default=True, compare=False)


@dataclass(frozen=True, slots=True)
class IndexFacts:
    """One index: definition, size in bytes and pages, and its use.

    ``scans`` counts its uses since the server's counters were reset, ``last_scan`` is the last
    of them (None: unknown or never). ``constraint`` tells that a constraint rests on it. One that
    is ``attached`` is part of an index on the table its own is a partition of, and goes with that.
    """

    name: str
    method: str
    keys: tuple[IndexKey, ...]
    included: tuple[str, ...] = ()
    unique: bool = False
    primary: bool = False
    valid: bool = True
    predicate: str = ""
    definition: str = ""
    size_bytes: int = 0
    pages: int = 0
    scans: int | None = None
    last_scan: datetime | None = None
    constraint: bool = False
    attached: bool = False

    @property
    def key_columns(self) -> tuple[str, ...]:
        """The columns of the keys in order, "" for an expression."""
        return tuple(key.column for key in self.keys)


@dataclass(frozen=True, slots=True)
class Writes:
    """Row changes counted by the server since its counters were reset."""

    inserted: int = 0
    updated: int = 0
    updated_in_page: int = 0
    deleted: int = 0


@dataclass(frozen=True, slots=True)
class Reads:
    """How a table was read since the server's counters were reset: scans and rows of each."""

    full_scans: int = 0
    rows_by_full_scan: int = 0
    index_scans: int = 0
    rows_by_index: int = 0


@dataclass(frozen=True, slots=True)
class ForeignKey:
    """Columns of a table that refer to another's; ``on_delete`` as the server says it.

    It ``holds`` when the server has made sure that every row refers to one that is there.
    """

    name: str
    columns: tuple[str, ...]
    refers_to: TableName
    refers_to_columns: tuple[str, ...]
    on_delete: str = "no action"
    holds: bool = True


@dataclass(frozen=True, slots=True)
class HeapFacts:
    """A table whose rows lie anywhere, old versions of them among the others.

    ``all_visible_share`` is the share of pages an index-only scan need not visit, ``dead_rows``
    are old versions that nobody needs, ``vacuumed_at`` is when they were last removed (None:
    never), ``fill_percent`` how full new pages are made.
    """

    all_visible_share: float = 0.0
    dead_rows: int = 0
    vacuumed_at: datetime | None = None
    fill_percent: int = 100


@dataclass(frozen=True, slots=True)
class ClusteredFacts:
    """A table that is kept in the order of an index, in which its rows lie."""

    by: tuple[str, ...] = ()


SYSTEM = "system"  # the kind of the server's own tables, which are nobody's to change
# Kinds of table that have rows of their own, and indexes on them.
HOLDS_ROWS = frozenset(("table", "materialized view"))
SMALL_PAGES, SMALL_BYTES = 32, 256 * 1024


@dataclass(frozen=True, slots=True)
class TableFacts:
    """One table with its columns and indexes.

    ``rows`` and ``pages`` are the planner's present view; ``page_bytes`` the size of a page;
    ``storage`` tells how its rows are kept (None: unknown); ``changes_since_analyze`` counts
    rows inserted, updated or deleted since ``analyzed_at`` (None: never); from
    ``stale_after_changes`` of them on the server gathers statistics anew by itself (None: not
    known). ``rows_counted`` is how many rows it counted then; ``gathered`` whether it ever did,
    None where that shows in the columns alone. ``kind`` is table,
    partitioned, view, materialized view, foreign or system. A partition names the table it is
    ``partition_of``, which has ``partitions`` with rows of their own and is the table ``root``.
    A partitioned table names its ``parts``, None when these are parted again, and has what all of
    them have. ``overflow_bytes`` are of values too long for their row. ``reads``, ``writes`` and
    the indexes' scans are counted since ``counted_since`` (None: unknown); not at all by a server
    for which ``counted`` is not true.
    """

    name: TableName
    kind: str
    rows: float
    pages: int
    size_bytes: int
    page_bytes: int = 8192
    columns: Mapping[str, ColumnFacts] = field(default_factory=dict)
    indexes: tuple[IndexFacts, ...] = ()
    writes: Writes = field(default=Writes())
    analyzed_at: datetime | None = None
    changes_since_analyze: int | None = None
    stale_after_changes: float | None = None
    rows_counted: float | None = None
    gathered: bool | None = None
    partition_of: str = ""
    partitions: int = 0
    root: TableName | None = None
    parts: tuple[TableName, ...] | None = ()
    overflow_bytes: int = 0
    reads: Reads = field(default=Reads())
    foreign_keys: tuple[ForeignKey, ...] = ()
    counted_since: datetime | None = None
    storage: HeapFacts | ClusteredFacts | None = None
    counted: bool = True

    @property
    def heap(self) -> HeapFacts | None:
        """What is true of heaps only; None for a table of another kind."""
        return self.storage if isinstance(self.storage, HeapFacts) else None

    @property
    def is_small(self) -> bool:
        """Whether it is read whole in no time, so that no index is worth a word."""
        return self.pages < SMALL_PAGES and self.pages * self.page_bytes < SMALL_BYTES

    @property
    def changes_unseen(self) -> int:
        """Row changes that the statistics do not know of.

        A session that fills a table and analyzes it reports its rows only afterwards: then all
        that was ever written counts as changed since, though the statistics saw just these rows.
        """
        changed = self.changes_since_analyze or 0
        counted = self.rows_counted
        ever = self.writes.inserted + self.writes.updated + self.writes.deleted
        if self.analyzed_at is not None and counted and 0 < ever <= changed:
            there = self.writes.inserted - self.writes.deleted
            if abs(there - counted) <= SEEN_WITHIN * counted:
                return 0
        return changed

    @property
    def is_stale(self) -> bool:
        """Whether so many rows changed that the server itself would gather statistics anew."""
        limit = self.stale_after_changes
        return self.changes_unseen > (STALE_SHARE * self.rows if limit is None else limit)

    @property
    def visited_share(self) -> float:
        """The share of its pages that a scan of an index alone must visit all the same."""
        if isinstance(self.storage, ClusteredFacts):
            return 0.0
        return 1.0 - (self.storage.all_visible_share if self.storage else 0.0)

    @property
    def in_every_index(self) -> frozenset[str]:
        """Columns that each index holds beside its own: those that lead to the row."""
        return frozenset(self.storage.by if isinstance(self.storage, ClusteredFacts) else ())

    @property
    def index_bytes(self) -> int:
        """What all its indexes take together."""
        return sum(index.size_bytes for index in self.indexes)

    def index(self, name: str) -> IndexFacts | None:
        """The index of this name."""
        return next((index for index in self.indexes if index.name == name), None)


@dataclass(frozen=True, slots=True)
class ServerFacts:
    """The server behind a session: version, place, and planner settings in base units.

    ``settings`` holds costs as plain numbers, memory in bytes (``…_bytes``) and page counts
    (``…_pages``) as the server resolved them. ``default_schema`` is the one a name without a
    schema stands for.
    """

    engine: str
    version: str
    version_number: int
    database: str
    user: str
    read_only_copy: bool = False
    superuser: bool = False
    default_schema: str = ""
    settings: Mapping[str, float] = field(default_factory=dict)
    texts: Mapping[str, str] = field(default_factory=dict)

    def setting(self, name: str, default: float) -> float:
        """A numeric setting, or the documented default when the server did not tell."""
        return self.settings.get(name, default)


def indexed_reference(table: TableFacts, key: ForeignKey) -> bool:
    """Whether an index begins with the columns of the key, in any order."""
    wanted = set(key.columns)
    return any(
        index.valid and not index.predicate and set(index.key_columns[: len(wanted)]) == wanted
        for index in table.indexes
    )
