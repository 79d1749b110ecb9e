"""What stands in a hollow: its relations, by name, with their files and their owner."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from psycopg import sql

from humble_ledger.core.schema.facts import TableName
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.connection import Connection, connect
from humble_ledger.engines.postgresql.hollow.files import PAGE_BYTES, RelationFiles
from humble_ledger.engines.postgresql.hollow.outline import Outline, Relation
from humble_ledger.engines.postgresql.launcher import Cluster
from humble_ledger.errors import TargetUnreachable

ROLE = "hollow"
LIMITS = Limits(statement_ms=30_000)


@dataclass(slots=True)
class Standing:
    """One hollow's database; ``admin`` may change its catalogue, the role that owns it may not."""

    cluster: Cluster
    database: str
    outline: Outline
    admin: Connection
    relations: dict[tuple[str, str], Relation] = field(default_factory=dict)

    def __post_init__(self) -> None:
        """Know each relation by its name."""
        self.relations = {(r.schema, r.name): r for r in self.outline.relations}

    @property
    def files(self) -> RelationFiles:
        """The files of its relations."""
        return RelationFiles(self.cluster.data, self.cluster.account)

    def owner(self) -> Connection:
        """A new connection as the role that owns everything in it."""
        return owner(self.cluster, self.database, self.outline.path)

    def relation(self, table: TableName) -> Relation:
        """The relation of a name.

        Raises:
            TargetUnreachable: it is not in the copy.
        """
        found = self.relations.get((table.schema, table.name))
        if found is None:
            raise TargetUnreachable(
                f"The copy has no table {table}.", "The target may have changed."
            )
        return found

    def heaps(self, table: TableName) -> list[Relation]:
        """The tables whose rows an index on this one would hold: itself, or its partitions."""
        relation = self.relation(table)
        if relation.kind != "p":
            return [relation]
        rows = self.admin.execute(
            "SELECT n.nspname, c.relname FROM pg_partition_tree(%s::regclass) t "
            "JOIN pg_class c ON c.oid = t.relid JOIN pg_namespace n ON n.oid = c.relnamespace "
            "WHERE t.isleaf",
            (sql.Identifier(table.schema, table.name).as_string(None),),
        ).fetchall()
        return [self.relations[str(schema), str(name)] for schema, name in rows]

    def parts(
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

    def oid(self, name: TableName) -> int:
        """The number of a relation."""
        row = self.admin.execute(
            "SELECT %s::regclass::oid::bigint",
            (sql.Identifier(name.schema, name.name).as_string(None),),
        ).fetchone()
        assert row is not None
        return int(str(row[0]))

    def set_valid(self, oids: Sequence[int], *, valid: bool) -> None:
        """The planner passes over an index that is not valid; so are those of partitions."""
        self.admin.execute(
            "UPDATE pg_index SET indisvalid = %s WHERE indexrelid IN "
            "(SELECT coalesce(t.relid::oid, o.oid) FROM unnest(%s::oid[]) AS o(oid) "
            "LEFT JOIN LATERAL pg_partition_tree(o.oid) t ON true)",
            (valid, list(oids)),
        )

    def place(self, schema: str, name: str) -> str:
        """Where a relation's file lies, below the data folder; "" for one that has none."""
        return place_of_file(self.admin, schema, name)

    def pages_now(self, schema: str, name: str) -> int:
        """How many pages a relation's file has."""
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


@contextlib.contextmanager
def heedless_owner(
    cluster: Cluster, database: str, path: str, admin: Connection
) -> Iterator[Connection]:
    """The owner, for whom no trigger, rule or foreign key acts; only ``admin`` may see to that.

    Keys refer to rows that are not in a hollow.
    """
    setting = sql.SQL("ALTER ROLE {} IN DATABASE {} {} session_replication_role").format
    names = sql.Identifier(ROLE), sql.Identifier(database)
    admin.execute(setting(*names, sql.SQL("SET")) + sql.SQL(" = replica"))
    try:
        with contextlib.closing(owner(cluster, database, path)) as opened:
            yield opened
    finally:
        admin.execute(setting(*names, sql.SQL("RESET")))
