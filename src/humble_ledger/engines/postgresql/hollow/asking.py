"""A hollow that is running: indexes are supposed on it, and its planner is asked."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from psycopg import sql

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.naming import index_name
from humble_ledger.core.remedies.together import ColumnGroup
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import ExplainOptions, Limits, PlanDocument
from humble_ledger.engines.postgresql.connection import Connection, connect
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.hollow.arena import PostgresArena, arena_in
from humble_ledger.engines.postgresql.hollow.expressions import Sampler
from humble_ledger.engines.postgresql.hollow.files import PAGE_BYTES, RelationFiles
from humble_ledger.engines.postgresql.hollow.heights import levels_of
from humble_ledger.engines.postgresql.hollow.history import History
from humble_ledger.engines.postgresql.hollow.source import Outline, Relation
from humble_ledger.engines.postgresql.hollow.statistics import StatisticsWriter
from humble_ledger.engines.postgresql.hollow.together import SupposedGroups
from humble_ledger.engines.postgresql.launcher import Cluster
from humble_ledger.engines.postgresql.session import PostgresSession

ROLE = "hollow"
_AS_THEY_ARE: Mapping[TableName, float] = {}
NEARLY_UNIQUE = 0.95  # of the rows have a value of their own: a key, which grows with them
LIMITS = Limits(statement_ms=30_000)


@dataclass(slots=True)
class _Supposed:
    """An index that stands on the hollow because somebody asked what if."""

    oid: int
    name: str
    table: TableName
    files: tuple[Relation, ...]
    shown: bool = False


@dataclass(slots=True)
class PostgresHollow:
    """A hollow that is running; see `engines.contract.Hollow`."""

    cluster: Cluster
    database: str
    outline: Outline
    session: PostgresSession
    admin: Connection
    notes: list[str]
    sampler: Sampler
    _relations: dict[tuple[str, str], Relation] = field(default_factory=dict)
    _supposed: dict[tuple[IndexDesign, IndexShape], _Supposed] = field(default_factory=dict)
    _hidden: frozenset[TableName] = frozenset()
    _factors: dict[TableName, float] = field(default_factory=dict)
    _longer: bool = False
    _stretched: History | None = None
    _groups: SupposedGroups = field(init=False)
    asked: int = 0

    def __post_init__(self) -> None:
        """Know each relation by its name."""
        self._relations = {(r.schema, r.name): r for r in self.outline.relations}
        self._groups = SupposedGroups(self.admin, self.sampler, self._owner)

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
        """The plan if these indexes were there, each of a size; see `engines.contract.Hollow`."""
        with translated():
            # An index is built on a table as it is, and grows with it.
            missing = {key[0].table for key in designs.items() if key not in self._supposed}
            for table in missing & self._factors.keys():
                self._grow(table, 1.0)
            wanted = self._suppose(designs)
            if longer_history != self._longer:
                self._longer = longer_history
                for table in list(self._factors):
                    self._grow(table, 1.0)
            for table in {*rows, *self._factors}:
                if rows.get(table, 1.0) != self._factors.get(table, 1.0):
                    self._grow(table, rows.get(table, 1.0), rows.keys())
            self._show(wanted)
            self._hide(frozenset(without))
            self._groups.show(together, self._relation)
        self.asked += 1
        return self.session.explain(statement, options)

    def names(self, designs: Mapping[IndexDesign, IndexShape]) -> Mapping[str, IndexDesign]:
        """What supposed indexes are called in the plans of `explain`."""
        return {
            self._supposed[design, shape].name: design
            for design, shape in designs.items()
            if (design, shape) in self._supposed
        }

    @contextlib.contextmanager
    def arena(self, tables: Sequence[TableName]) -> Iterator[PostgresArena]:
        """These tables with nothing in them; see `engines.contract.Hollow`."""
        with (
            contextlib.closing(self._owner()) as connection,
            arena_in(connection, tables) as made,
        ):
            yield made

    def forget_all(self) -> None:
        """Remove all that was supposed: the hollow may be used again."""
        self._hide(frozenset())
        self._groups.show((), self._relation)
        for table in list(self._factors):
            self._grow(table, 1.0)
        self._drop(list(self._supposed))

    def forget(self, designs: Mapping[IndexDesign, IndexShape]) -> None:
        """Remove these supposed indexes: each one that stands there makes planning slower."""
        self._drop([key for key in designs.items() if key in self._supposed])

    def _drop(self, keys: Sequence[tuple[IndexDesign, IndexShape]]) -> None:
        if not keys:
            return
        gone = [self._supposed.pop(key) for key in keys]
        names = [sql.Identifier(each.table.schema, each.name) for each in gone]
        with contextlib.closing(self._owner()) as loader:
            loader.execute(sql.SQL("DROP INDEX {}").format(sql.SQL(", ").join(names)))

    def _suppose(self, designs: Mapping[IndexDesign, IndexShape]) -> list[_Supposed]:
        """The supposed indexes, those of a table that are missing built together."""
        missing: dict[TableName, list[tuple[IndexDesign, IndexShape]]] = {}
        for key in designs.items():
            if key not in self._supposed:
                missing.setdefault(key[0].table, []).append(key)
        for table, wanted in missing.items():
            self._build(table, wanted)
        return [self._supposed[key] for key in designs.items()]

    def _build(self, table: TableName, wanted: Sequence[tuple[IndexDesign, IndexShape]]) -> None:
        """Build indexes over next to nothing, and give their files the wanted sizes.

        Raises:
            psycopg.Error: one of them cannot be built; those before it stand.
        """
        # As they would be called, so that plans read like the target's.
        taken = {key[1] for key in self._relations} | {s.name for s in self._supposed.values()}
        files = RelationFiles(self.cluster.data, self.cluster.account)
        heaps = self._heaps(table)
        places = {heap: self._place(heap.schema, heap.name) for heap in heaps}
        for heap, place in places.items():
            files.resize(place, min(1, heap.pages))
        built: list[tuple[str, IndexDesign, IndexShape]] = []
        try:
            # A new connection: one that has seen the table knows how long it was.
            with contextlib.closing(
                owner(self.cluster, self.database, self.outline.path)
            ) as builder:
                path = f"{self.outline.path}, public"  # which a design leaves out
                builder.execute("SELECT set_config('search_path', %s, false)", (path,))
                for design, shape in wanted:
                    name = index_name(design, taken=taken)
                    taken.add(name)
                    builder.execute(design.create_sql(name).encode())
                    built.append((name, design, shape))
        finally:
            for heap, place in places.items():
                files.resize(place, heap.pages)
            for name, design, shape in built:
                self._supposed[design, shape] = self._sized(files, name, design, shape, heaps)

    def _sized(
        self,
        files: RelationFiles,
        name: str,
        design: IndexDesign,
        shape: IndexShape,
        heaps: Sequence[Relation],
    ) -> _Supposed:
        writer = StatisticsWriter(self.admin)
        made = self._parts(design.table.schema, name, heaps)
        whole = sum(heap.rows for heap in heaps if heap.rows > 0) or 1.0
        sized = []
        for schema, part, heap in made:
            share = max(0.0, heap.rows) / whole if len(made) > 1 else 1.0
            pages = max(1, round(shape.pages * share))
            place = self._place(schema, part)
            if design.method == IndexMethod.SORTED:
                files.grow_b_tree(place, pages, shape.levels)
            else:
                files.resize(place, max(pages, self._pages_now(schema, part)))
            entries = shape.entries * share
            method = "btree" if design.method == IndexMethod.SORTED else design.method
            sized.append(
                Relation(schema, part, "i", method, pages, pages, entries, 0, False, ("", ""))
            )
        self._know_expressions(writer, design, made)
        tables = [self._relations[key] for key in {(h.schema, h.name) for h in heaps}]
        root = self._relations.get((design.table.schema, design.table.name))
        writer.sizes([*sized, *tables, *([root] if root is not None else [])])
        oid = self._oid(TableName(design.table.schema, name))
        found = _Supposed(oid, name, design.table, tuple(sized))
        self._set_valid([found.oid], valid=False)
        return found

    def _know_expressions(
        self,
        writer: StatisticsWriter,
        design: IndexDesign,
        made: Sequence[tuple[str, str, Relation]],
    ) -> None:
        """Write down what ANALYZE would find of the expressions that an index is on."""
        for number, key in enumerate(design.keys, start=1):
            for schema, part, heap in made if key.expression else ():
                found = self.sampler.statistics(heap, key.expression)
                row = self.admin.execute(
                    "SELECT attname FROM pg_attribute WHERE attrelid = %s::regclass "
                    "AND attnum = %s",
                    (sql.Identifier(schema, part).as_string(None), number),
                ).fetchone()
                if found is not None and row is not None:
                    writer.column(replace(found, schema=schema, table=part, column=str(row[0])))

    def _grow(self, table: TableName, factor: float, together: Collection[TableName] = ()) -> None:
        """Give a table, and its indexes, so many times its rows and its size.

        A column that refers to a table which does not grow ``together`` with it keeps as many
        different values as it has.

        Its indexes are built anew over next to nothing: a b-tree's height stands in its first
        page, and what the server has read of that hides what is written to the file.
        """
        files = RelationFiles(self.cluster.data, self.cluster.account)
        heaps = self._heaps(table)
        for heap in heaps:
            files.resize(self._place(heap.schema, heap.name), min(1, heap.pages))
        sized = []
        try:
            with contextlib.closing(
                owner(self.cluster, self.database, self.outline.path)
            ) as builder:
                for heap in heaps:
                    name = sql.Identifier(heap.schema, heap.name)
                    builder.execute(sql.SQL("REINDEX TABLE {}").format(name))
        finally:
            for heap in heaps:
                grown = _times(heap, factor)
                files.resize(self._place(heap.schema, heap.name), grown.pages)
                sized.append(grown)
        self._keep_distinct(
            [*heaps, *([root] if (root := self._relations.get(_key(table))) is not None else [])],
            self._factors.get(table, 1.0) / factor,
            together,
        )
        self._history().stretch(
            [*heaps, *([root] if root is not None else [])], factor if self._longer else 1.0
        )
        self._factors[table] = factor
        of = {(heap.schema, heap.name) for heap in heaps}
        for index in self.outline.relations:
            if index.kind == "i" and index.table in of and index.pages:
                sized.append(self._index_grown(files, _times(index, factor)))
        for each in self._supposed.values():
            if each.table == table:
                sized += [self._index_grown(files, _times(i, factor)) for i in each.files]
        if root is not None and root.kind == "p":
            sized.append(_times(root, factor))
        StatisticsWriter(self.admin).sizes(sized)
        # Built anew, an index is valid again.
        hidden = [each.oid for each in self._supposed.values() if not each.shown]
        hidden += [self._oid(name) for name in self._hidden]
        if hidden:
            self._set_valid(hidden, valid=False)
        if factor == 1.0:
            del self._factors[table]

    def _owner(self) -> Connection:
        return owner(self.cluster, self.database, self.outline.path)

    def _relation(self, table: TableName) -> Relation:
        return self._relations[_key(table)]

    def _history(self) -> History:
        if self._stretched is None:
            self._stretched = History(self.admin)
        return self._stretched

    def _keep_distinct(
        self, relations: Sequence[Relation], ratio: float, together: Collection[TableName]
    ) -> None:
        """Statistics tell many values as a share of the rows, which would grow with them."""
        names = [sql.Identifier(r.schema, r.name).as_string(None) for r in relations]
        others = [sql.Identifier(t.schema, t.name).as_string(None) for t in together]
        self.admin.execute(
            "UPDATE pg_statistic s SET stadistinct = s.stadistinct * %s FROM pg_constraint k "
            "WHERE k.contype = 'f' AND k.conrelid = s.starelid AND s.staattnum = k.conkey[1] "
            "AND array_length(k.conkey, 1) = 1 AND s.stadistinct < 0 AND s.stadistinct > %s "
            "AND s.starelid = ANY (%s::text[]::regclass[]) "
            "AND k.confrelid <> ALL (%s::text[]::regclass[])",
            (ratio, -NEARLY_UNIQUE, names, others),
        )

    def _index_grown(self, files: RelationFiles, index: Relation) -> Relation:
        place = self._place(index.schema, index.name)
        if index.method == "btree":
            files.grow_b_tree(place, index.pages, levels_of(self.admin, index))
        else:
            files.resize(place, max(index.pages, self._pages_now(index.schema, index.name)))
        return index

    def _heaps(self, table: TableName) -> list[Relation]:
        """The tables whose rows an index on this one would hold: itself, or its partitions."""
        relation = self._relations[table.schema, table.name]
        if relation.kind != "p":
            return [relation]
        rows = self.admin.execute(
            "SELECT n.nspname, c.relname FROM pg_partition_tree(%s::regclass) t "
            "JOIN pg_class c ON c.oid = t.relid JOIN pg_namespace n ON n.oid = c.relnamespace "
            "WHERE t.isleaf",
            (sql.Identifier(table.schema, table.name).as_string(None),),
        ).fetchall()
        return [self._relations[str(schema), str(name)] for schema, name in rows]

    def _parts(
        self, schema: str, name: str, heaps: Sequence[Relation]
    ) -> list[tuple[str, str, Relation]]:
        """The indexes that have files, each with its table."""
        rows = self.admin.execute(
            "SELECT n.nspname, c.relname, tn.nspname, t.relname "
            "FROM pg_partition_tree(%s::regclass) p JOIN pg_class c ON c.oid = p.relid "
            "JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_index i ON i.indexrelid = c.oid "
            "JOIN pg_class t ON t.oid = i.indrelid JOIN pg_namespace tn ON tn.oid = t.relnamespace "
            "WHERE c.relkind = 'i'",
            (sql.Identifier(schema, name).as_string(None),),
        ).fetchall()
        if not rows:
            return [(schema, name, heaps[0])]
        of = {(heap.schema, heap.name): heap for heap in heaps}
        return [(str(s), str(n), of[str(ts), str(t)]) for s, n, ts, t in rows]

    def _show(self, wanted: Sequence[_Supposed]) -> None:
        """Let the planner see these supposed indexes, and no others."""
        names = {each.oid for each in wanted}
        on = [s for s in self._supposed.values() if s.oid in names and not s.shown]
        off = [s for s in self._supposed.values() if s.oid not in names and s.shown]
        for some, valid in ((on, True), (off, False)):
            if some:
                self._set_valid([each.oid for each in some], valid=valid)
                for each in some:
                    each.shown = valid

    def _hide(self, gone: frozenset[TableName]) -> None:
        """Let the planner pass over these indexes of the target, and over no others."""
        for names, valid in ((gone - self._hidden, False), (self._hidden - gone, True)):
            oids = [self._oid(name) for name in names]
            if oids:
                self._set_valid(oids, valid=valid)
        self._hidden = gone

    def _oid(self, name: TableName) -> int:
        row = self.admin.execute(
            "SELECT %s::regclass::oid::bigint",
            (sql.Identifier(name.schema, name.name).as_string(None),),
        ).fetchone()
        assert row is not None
        return int(str(row[0]))

    def _set_valid(self, oids: Sequence[int], *, valid: bool) -> None:
        """The planner passes over an index that is not valid; so are those of partitions."""
        self.admin.execute(
            "UPDATE pg_index SET indisvalid = %s WHERE indexrelid IN "
            "(SELECT coalesce(t.relid::oid, o.oid) FROM unnest(%s::oid[]) AS o(oid) "
            "LEFT JOIN LATERAL pg_partition_tree(o.oid) t ON true)",
            (valid, list(oids)),
        )

    def _place(self, schema: str, name: str) -> str:
        return place_of_file(self.admin, schema, name)

    def _pages_now(self, schema: str, name: str) -> int:
        row = self.admin.execute(
            "SELECT pg_relation_size(%s::regclass)", (sql.Identifier(schema, name).as_string(None),)
        ).fetchone()
        return int(str(row[0])) // PAGE_BYTES if row else 1


def _key(table: TableName) -> tuple[str, str]:
    return table.schema, table.name


def _times(relation: Relation, factor: float) -> Relation:
    """A relation with so many times its rows and pages, as full as it is."""
    return replace(
        relation,
        pages=max(min(1, relation.pages), round(relation.pages * factor)),
        catalogue_pages=round(relation.catalogue_pages * factor),
        rows=relation.rows * factor if relation.rows > 0 else relation.rows,
        all_visible=round(relation.all_visible * factor),
    )


def place_of_file(admin: Connection, schema: str, name: str) -> str:
    """Where a relation's file lies, below the data folder; "" for one that has none."""
    row = admin.execute(
        "SELECT pg_relation_filepath(to_regclass(%s))",
        (sql.Identifier(schema, name).as_string(None),),
    ).fetchone()
    return str(row[0]) if row and row[0] else ""


def owner(cluster: Cluster, database: str, path: str) -> Connection:
    """A connection as the role that owns everything in the hollow, and may do nothing else."""
    opened = connect(cluster.url(database, ROLE), LIMITS, mark="hollow", read_only=False)
    opened.users_path = path
    return opened
