"""A hollow that is running: indexes are supposed on it, and its planner is asked."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field

from psycopg import sql

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.naming import index_name
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import ExplainOptions, Limits, PlanDocument
from humble_ledger.engines.postgresql.connection import Connection, connect
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.hollow.files import PAGE_BYTES, RelationFiles
from humble_ledger.engines.postgresql.hollow.source import Outline, Relation
from humble_ledger.engines.postgresql.hollow.statistics import StatisticsWriter
from humble_ledger.engines.postgresql.launcher import Cluster
from humble_ledger.engines.postgresql.session import PostgresSession

ROLE = "hollow"
LIMITS = Limits(statement_ms=30_000)


@dataclass(slots=True)
class _Supposed:
    """An index that stands on the hollow because somebody asked what if."""

    oid: int
    name: str
    table: TableName
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
    _relations: dict[tuple[str, str], Relation] = field(default_factory=dict)
    _supposed: dict[tuple[IndexDesign, IndexShape], _Supposed] = field(default_factory=dict)
    _hidden: frozenset[TableName] = frozenset()
    asked: int = 0

    def __post_init__(self) -> None:
        """Know each relation by its name."""
        self._relations = {(r.schema, r.name): r for r in self.outline.relations}

    def explain(
        self,
        statement: Statement,
        designs: Mapping[IndexDesign, IndexShape],
        options: ExplainOptions = ExplainOptions(),  # noqa: B008
        *,
        without: Collection[TableName] = (),
    ) -> PlanDocument:
        """The plan if these indexes were there, each of a size; see `engines.contract.Hollow`."""
        with translated():
            wanted = [self._suppose(design, shape) for design, shape in designs.items()]
            self._show(wanted)
            self._hide(frozenset(without))
        self.asked += 1
        return self.session.explain(statement, options)

    def names(self, designs: Mapping[IndexDesign, IndexShape]) -> Mapping[str, IndexDesign]:
        """What supposed indexes are called in the plans of `explain`."""
        return {
            self._supposed[design, shape].name: design
            for design, shape in designs.items()
            if (design, shape) in self._supposed
        }

    def forget_supposed(self) -> None:
        """Remove all that was supposed: the hollow may be used again."""
        self._hide(frozenset())
        with contextlib.closing(owner(self.cluster, self.database, self.outline.path)) as loader:
            for each in self._supposed.values():
                loader.execute(
                    sql.SQL("DROP INDEX {}").format(sql.Identifier(each.table.schema, each.name))
                )
        self._supposed.clear()

    def _suppose(self, design: IndexDesign, shape: IndexShape) -> _Supposed:
        key = (design, shape)
        if key not in self._supposed:
            self._supposed[key] = self._created(design, shape)
        return self._supposed[key]

    def _created(self, design: IndexDesign, shape: IndexShape) -> _Supposed:
        """Build an index over next to nothing, and give its file the wanted size."""
        # As it would be called, so that plans read like the target's.
        taken = {key[1] for key in self._relations} | {s.name for s in self._supposed.values()}
        name = index_name(design, taken=taken)
        files = RelationFiles(self.cluster.data, self.cluster.account)
        heaps = self._heaps(design.table)
        places = {heap: self._place(heap.schema, heap.name) for heap in heaps}
        for heap, place in places.items():
            files.resize(place, min(1, heap.pages))
        try:
            # A new connection: one that has seen the table knows how long it was.
            with contextlib.closing(
                owner(self.cluster, self.database, self.outline.path)
            ) as builder:
                path = f"{self.outline.path}, public"  # which a design leaves out
                builder.execute("SELECT set_config('search_path', %s, false)", (path,))
                builder.execute(design.create_sql(name).encode())
        finally:
            for heap, place in places.items():
                files.resize(place, heap.pages)
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
            sized.append(Relation(schema, part, "i", "", pages, pages, entries, 0, False, ("", "")))
        tables = [self._relations[key] for key in {(h.schema, h.name) for h in heaps}]
        root = self._relations.get((design.table.schema, design.table.name))
        writer.sizes([*sized, *tables, *([root] if root is not None else [])])
        found = _Supposed(self._oid(TableName(design.table.schema, name)), name, design.table)
        self._set_valid([found.oid], valid=False)
        return found

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
