"""A team's ledger: a schema on a PostgreSQL server, which several people write to at once.

One writes at a time, as in a file: a lock of the transaction keeps the others waiting, so that
everything that is true of a file's steps is true here. Readers wait for nobody.
"""

from __future__ import annotations

import logging
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import chain, count
from typing import Any

import msgspec
import psycopg
from psycopg import sql
from psycopg.types.numeric import IntLoader
from psycopg.types.string import StrDumper
from sqlalchemy import Connection, Engine, create_engine, func, select, text
from sqlalchemy.pool import QueuePool

from humble_ledger.engines.contract import APPLICATION_NAME
from humble_ledger.errors import LedgerUnreachable
from humble_ledger.ledger import upgrading
from humble_ledger.ledger.store.contract import Store
from humble_ledger.ledger.store.place import Place, ServerPlace
from humble_ledger.ledger.tables import metadata

# What went wrong is told once, by us; the driver would add that it closed what was going on.
logging.getLogger("psycopg").addHandler(logging.NullHandler())

WAIT_FOR_OTHER_WRITER_MS = 60_000
CONNECT_TIMEOUT_S = 10
# Of a writer that was cut off: its lock would keep the others waiting.
IDLE_TIMEOUT_MS = 300_000

_LET_IN = (
    "Its owner lets you in with:  GRANT USAGE ON SCHEMA, and SELECT, INSERT, UPDATE, DELETE ON ALL "
    "TABLES, ALL ON ALL SEQUENCES IN SCHEMA"
)
# A ledger has tables, their indexes and sequences only. All else that can stand in a schema would
# be run, with our rights, by reading, writing or planning: triggers, rules, policies, computed
# defaults, checks (also those of a column's domain), indexes and statistics over expressions,
# tables that inherit (with triggers of theirs), functions and operators before the server's own.
_ACTING_SQL = """
WITH ours AS (SELECT c.* FROM pg_catalog.pg_class c WHERE c.relnamespace = %(schema)s)
SELECT what, name FROM (
  SELECT 'trigger', tgname FROM pg_catalog.pg_trigger JOIN ours ON ours.oid = tgrelid
    WHERE NOT tgisinternal
  UNION ALL SELECT 'rule', rulename FROM pg_catalog.pg_rewrite JOIN ours ON ours.oid = ev_class
  UNION ALL SELECT 'policy', polname FROM pg_catalog.pg_policy JOIN ours ON ours.oid = polrelid
  UNION ALL SELECT 'relation of another kind', relname FROM ours
    WHERE relkind NOT IN ('r', 'i', 'S', 't') OR relrowsecurity OR relispartition
  UNION ALL SELECT 'function', proname FROM pg_catalog.pg_proc WHERE pronamespace = %(schema)s
  UNION ALL SELECT 'operator', oprname FROM pg_catalog.pg_operator
    WHERE oprnamespace = %(schema)s
  UNION ALL SELECT 'type', typname FROM pg_catalog.pg_type
    WHERE typnamespace = %(schema)s AND typtype NOT IN ('c', 'b')
  UNION ALL SELECT 'computed default', attname
    FROM pg_catalog.pg_attrdef JOIN ours ON ours.oid = adrelid
    JOIN pg_catalog.pg_attribute a ON a.attrelid = adrelid AND a.attnum = adnum
    WHERE pg_catalog.pg_get_expr(adbin, adrelid) !~
      '^(nextval\\(''[^'']+''::regclass\\)|''[^'']*''::(text|character varying))$'
  UNION ALL SELECT 'check', conname FROM pg_catalog.pg_constraint
    WHERE connamespace = %(schema)s AND contype NOT IN ('p', 'u', 'f', 'n')
  UNION ALL SELECT 'index over an expression', relname
    FROM pg_catalog.pg_index JOIN ours ON ours.oid = indexrelid
    WHERE indexprs IS NOT NULL OR indpred IS NOT NULL
  UNION ALL SELECT 'statistics object', stxname
    FROM pg_catalog.pg_statistic_ext JOIN ours ON ours.oid = stxrelid
  UNION ALL SELECT 'table that inherits', inhrelid::pg_catalog.regclass::text
    FROM pg_catalog.pg_inherits JOIN ours ON ours.oid = inhparent
  UNION ALL SELECT 'column of another type', attname
    FROM pg_catalog.pg_attribute JOIN ours ON ours.oid = attrelid
    JOIN pg_catalog.pg_type ty ON ty.oid = atttypid
    WHERE attnum > 0 AND NOT attisdropped AND relkind = 'r'
      AND typnamespace <> 'pg_catalog'::pg_catalog.regnamespace
) AS acting (what, name) ORDER BY 1, 2 LIMIT 1
"""


class SchemaStore(Store):
    """The ledger in a schema of its own, so that a database may hold other things, too."""

    place: ServerPlace
    _own_error = psycopg.Error
    _hints = (
        ("No space left", "Make room on the server's disk; nothing of this step was kept."),
        ("lock timeout", "Somebody else has been writing for a minute; try again later."),
        (
            "permission denied for database",
            "Have its owner make the schema for you:  CREATE SCHEMA humble_ledger AUTHORIZATION …",
        ),
        ("permission denied", _LET_IN),
        ("password", "Keep the password in ~/.pgpass, PGPASSWORD or HUMBLE_LEDGER."),
        ("read-only", "It is a standby, or its server takes no writes: name the one that does."),
        ("", "Does its server answer, and may you write to it? Nothing of this step was kept."),
    )

    def __init__(self, place: ServerPlace, *, create: bool = False) -> None:
        self.place = place
        with self._told(), _connected(place) as connection:
            self._require_ledger(connection, create)
        self._engine = _engine(place)
        self._for_readers = self._engine.execution_options(
            isolation_level="REPEATABLE READ", postgresql_readonly=True
        )
        self._bring_up()

    def _reader(self) -> Engine:
        return self._for_readers

    @contextmanager
    def writing(self) -> Iterator[Connection]:  # noqa: D102 - see the contract
        with self._told(), self._engine.connect() as connection, connection.begin():
            # Taken before the first look at anything: what is read now is what others left.
            key = func.hashtextextended(self._lock_name, 0)
            connection.execute(select(func.pg_advisory_xact_lock(key)))
            yield connection

    @property
    def _lock_name(self) -> str:
        return f"humble ledger {self.place.schema}"

    def _require_ledger(self, connection: psycopg.Connection[Any], create: bool) -> None:
        """Look whether it is one, and leave alone what is none."""
        names = {"name": self.place.schema}
        wanted = "SELECT oid FROM pg_catalog.pg_namespace WHERE nspname = %(name)s"
        found = connection.execute(wanted, names).fetchone()
        if found is None and create:
            schema = sql.Identifier(self.place.schema)
            connection.execute(sql.SQL("CREATE SCHEMA IF NOT EXISTS {}").format(schema))
            return
        if found is None:
            raise LedgerUnreachable(
                f"There is no ledger at {self.place}.",
                "Begin one there:  humble init TARGET --ledger postgresql://user@host/database",
            )
        usable = "SELECT has_schema_privilege(%(schema)s::oid, 'USAGE')"
        if connection.execute(usable, {"schema": found[0]}).fetchone() == (False,):
            raise LedgerUnreachable(f"You may not use the ledger {self.place}.", _LET_IN)
        acting = connection.execute(_ACTING_SQL, {"schema": found[0]}).fetchone()
        if acting is not None:
            raise LedgerUnreachable(
                f"The ledger {self.place} has a {acting[0]} that is none of ours: "
                f"{acting[1]} could act with your rights, or change what is shown.",
                "Have its owner look who made that.",
            )
        begun = (
            "SELECT count(*) FILTER (WHERE relname = 'alembic_version'), count(*) "
            "FROM pg_catalog.pg_class WHERE relnamespace = %(schema)s AND relkind = 'r'"
        )
        row = connection.execute(begun, {"schema": found[0]}).fetchone()
        ours, tables = row if row is not None else (0, 0)
        if not ours and (tables or not create):
            raise LedgerUnreachable(
                f"The schema of {self.place} is not a ledger.",
                "Name another:  …?schema=name, or begin one with  humble init --ledger",
            )

    def _upgrade(self, connection: Connection) -> None:
        version = upgrading.version_of(connection)
        if version is not None:
            upgrading.upgrade(connection)
            return
        # Another process may have been first; the lock for writing made this one wait.
        metadata.create_all(connection)
        upgrading.stamp(connection)

    def size_bytes(self) -> int:
        """The bytes of its tables and their indexes."""
        wanted = text(
            "SELECT coalesce(sum(pg_total_relation_size(oid)), 0) FROM pg_catalog.pg_class "
            "WHERE relnamespace = current_schema()::regnamespace AND relkind = 'r'"
        )
        with self.reading() as connection:
            return int(connection.execute(wanted).scalar_one())

    def faults(self, connection: Connection) -> Iterator[str]:
        """Rows that name rows which are not there: constraints can be switched off."""
        for table in metadata.sorted_tables:
            for key in table.foreign_keys:
                other = key.column
                there = select(other).where(other == key.parent).exists()
                wanted = select(func.count()).where(key.parent.is_not(None)).where(~there)
                count = connection.execute(wanted).scalar_one()
                if count:
                    yield (
                        f"{count:,} rows of {table.name} name a row of {other.table.name} that is "
                        "not there"
                    )

    def back_up(self, to: Place) -> int:
        """Write a copy of the ledger as it is now."""
        from humble_ledger.ledger.store.copying import copy_into_new  # noqa: PLC0415 - rare

        return copy_into_new(self, to)

    def shrink(self) -> None:
        """Make the room of what was removed free for new rows."""
        with self._told(), _connected(self.place) as connection:
            for table in metadata.sorted_tables:
                connection.execute(
                    sql.SQL("VACUUM (ANALYZE) {}").format(sql.Identifier(table.name))
                )

    def _keep_former(self, version: str) -> None:
        """Keep the rows of all tables in a schema beside it, named after the version."""
        with self._told(), _connected(self.place) as connection, connection.transaction():
            lock = "SELECT pg_advisory_xact_lock(hashtextextended(%s, 0))"
            connection.execute(lock, (self._lock_name,))
            now = connection.execute("SELECT version_num FROM alembic_version").fetchone()
            if now != (version,):
                return  # somebody else was first
            beside = self._free_schema(connection, f"{self.place.schema}_{version}")
            connection.execute(sql.SQL("CREATE SCHEMA {}").format(beside))
            names = connection.execute(
                "SELECT tablename FROM pg_catalog.pg_tables WHERE schemaname = current_schema()"
            ).fetchall()
            for (name,) in names:
                table = sql.Identifier(name)
                connection.execute(
                    sql.SQL("CREATE TABLE {}.{} AS TABLE {}").format(beside, table, table)
                )

    def _free_schema(self, connection: psycopg.Connection[Any], name: str) -> sql.Identifier:
        """A name that no schema has: an earlier attempt may have left a copy."""
        wanted = "SELECT nspname FROM pg_catalog.pg_namespace WHERE starts_with(nspname::text, %s)"
        taken = {row[0] for row in connection.execute(wanted, (name,)).fetchall()}
        others = (f"{name}_{number}" for number in count(2))
        return sql.Identifier(next(each for each in chain([name], others) if each not in taken))


class _PlainText(StrDumper):
    """Text that PostgreSQL can hold: it knows no character 0, which logs of others may have."""

    def dump(self, obj: str) -> Any:
        return super().dump(obj.replace("\0", "\N{SYMBOL FOR NULL}"))


def _connected(place: ServerPlace) -> psycopg.Connection[Any]:
    connection: psycopg.Connection[Any] = psycopg.connect(
        place.url,
        autocommit=True,
        connect_timeout=CONNECT_TIMEOUT_S,
        # What we do is no workload, also where the ledger's server is a target.
        application_name=f"{APPLICATION_NAME} ledger",
        client_encoding="utf8",
        # A network that goes away must not leave us waiting for ever.
        keepalives_idle=30,
        keepalives_interval=10,
        keepalives_count=3,
        prepare_threshold=None,
    )
    settings = {
        "search_path": f'"{place.schema}"',
        "lock_timeout": f"{WAIT_FOR_OTHER_WRITER_MS}",
        "idle_in_transaction_session_timeout": f"{IDLE_TIMEOUT_MS}",
        "statement_timeout": "0",
        "default_transaction_read_only": "off",
        "row_security": "off",
    }
    for name, value in settings.items():
        connection.execute("SELECT pg_catalog.set_config(%s, %s, false)", (name, value))
    # Sums of whole numbers come as numeric, and are whole.
    connection.adapters.register_loader("numeric", IntLoader)
    connection.adapters.register_dumper(str, _PlainText)
    return connection


def _engine(place: ServerPlace) -> Engine:
    def connected() -> psycopg.Connection[Any]:
        connection = _connected(place)
        connection.autocommit = False
        return connection

    return create_engine(
        "postgresql+psycopg://",
        creator=connected,
        poolclass=QueuePool,
        paramstyle="format",
        use_native_hstore=False,
        json_serializer=lambda value: msgspec.json.encode(value).decode(),
        json_deserializer=msgspec.json.decode,
    )
