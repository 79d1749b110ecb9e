"""What the catalogue and the statistics tell of tables."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from humble_ledger.core.schema.beginnings import Beginning
from humble_ledger.core.schema.facts import (
    ClusteredFacts,
    ColumnFacts,
    ForeignKey,
    IndexFacts,
    IndexKey,
    TableFacts,
    TableName,
)
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.costs import PAGE_BYTES
from humble_ledger.engines.mysql.naming import quoted
from humble_ledger.errors import HumbleError

SYSTEM = ("mysql", "information_schema", "performance_schema", "sys")
_FIXED_BYTES = {
    "tinyint": 1, "smallint": 2, "mediumint": 3, "int": 4, "bigint": 8, "float": 4, "double": 8,
    "date": 3, "time": 3, "datetime": 5, "timestamp": 4, "year": 1, "bit": 1, "enum": 1, "set": 1,
    "uuid": 16, "inet6": 16, "inet4": 4,
}  # fmt: skip
_UNSORTABLE = ("blob", "text", "tinyblob", "tinytext", "mediumblob", "mediumtext", "longblob",
               "longtext", "json", "geometry", "point", "polygon", "linestring")  # fmt: skip
_FRACTION = re.compile(r"(?:datetime|timestamp|time)\((\d)\)")
_DECIMAL = re.compile(r"decimal\((\d+)")


@dataclass(slots=True)
class Catalogue:
    """Reads facts by the views of the standard, and sizes by those of the storage engine."""

    connection: Connection
    database: str
    _known: dict[TableName, TableFacts] = field(default_factory=dict)

    def forget(self) -> None:
        """Read everything anew when it is asked for next."""
        self._known.clear()

    def user_tables(self) -> Sequence[TableName]:
        """The tables of this database."""
        rows = self.connection.asked(
            "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = %s "
            "AND TABLE_TYPE = 'BASE TABLE' ORDER BY 1",
            self.database,
        )
        return [TableName("", str(row[0])) for row in rows]

    def tables(self, names: Iterable[TableName]) -> Mapping[TableName, TableFacts]:
        """Facts about these tables; unknown names are left out."""
        found: dict[TableName, TableFacts] = {}
        for name in names:
            if name not in self._known:
                facts = self._facts(name)
                if facts is None:
                    continue
                self._known[name] = facts
            found[name] = self._known[name]
        return found

    def _facts(self, name: TableName) -> TableFacts | None:
        schema = name.schema or self.database
        rows = self.connection.asked(
            "SELECT TABLE_TYPE, ENGINE, TABLE_ROWS, DATA_LENGTH, INDEX_LENGTH, CREATE_OPTIONS "
            "FROM information_schema.TABLES WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s",
            schema,
            name.name,
        )
        if not rows:
            return None
        kind, engine, count, data, _, options = rows[0]
        partitioned = "partitioned" in str(options or "")
        size, gathered_at = self._sizes(schema, name.name)
        pages = size.get("", 0) or int((data or 0) / PAGE_BYTES)
        total = float(size.get("rows", count or 0) or 0)
        indexes = self._indexes(schema, name.name, size)
        columns = self._columns(schema, name.name, total, indexes)
        primary = next((i for i in indexes if i.primary), None)
        clustered = ClusteredFacts(primary.key_columns if primary else ())
        return TableFacts(
            name,
            "view" if "VIEW" in str(kind) else "table",
            total,
            pages,
            pages * PAGE_BYTES,
            PAGE_BYTES,
            columns,
            indexes,
            analyzed_at=gathered_at,
            gathered=gathered_at is not None,
            foreign_keys=tuple(self._foreign_keys(schema, name.name)),
            storage=clustered if str(engine).lower() == "innodb" else None,
            counted=False,
            partitions=1 if partitioned else 0,
        )

    def _sizes(self, schema: str, table: str) -> tuple[dict[str, int], datetime | None]:
        """Pages of the table ("") and of each index, and rows, as the storage engine keeps them."""
        pattern = (table, f"{table}#%")
        try:
            rows = self.connection.asked(
                "SELECT SUM(n_rows), SUM(clustered_index_size), MIN(last_update) "
                "FROM mysql.innodb_table_stats WHERE database_name = %s "
                "AND (table_name = %s OR table_name LIKE %s)",
                schema, *pattern,
            )  # fmt: skip
            indexes = self.connection.asked(
                "SELECT index_name, SUM(stat_value) FROM mysql.innodb_index_stats "
                "WHERE database_name = %s AND (table_name = %s OR table_name LIKE %s) "
                "AND stat_name = 'size' GROUP BY 1",
                schema, *pattern,
            )  # fmt: skip
        except HumbleError:
            return {}, None  # only who may read that schema sees them
        if not rows or rows[0][0] is None:
            return {}, None
        found = {str(name): int(pages) for name, pages in indexes}
        found["rows"], found[""] = int(rows[0][0]), int(rows[0][1])
        return found, _moment(rows[0][2])

    def _indexes(self, schema: str, table: str, sizes: Mapping[str, int]) -> tuple[IndexFacts, ...]:
        member = self.connection.member
        hidden = "NULL"
        if member.mariadb and member.has(100600, None):
            hidden = "IGNORED = 'YES'"
        elif not member.mariadb and member.has(None, 80000):
            hidden = "IS_VISIBLE = 'NO'"
        expression = "EXPRESSION" if not member.mariadb and member.has(None, 80013) else "NULL"
        rows = self.connection.asked(
            f"SELECT INDEX_NAME, NON_UNIQUE, COLUMN_NAME, COLLATION, SUB_PART, INDEX_TYPE, "
            f"{hidden}, {expression}, CARDINALITY FROM information_schema.STATISTICS "
            "WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s ORDER BY INDEX_NAME, SEQ_IN_INDEX",
            schema,
            table,
        )
        scans = self._scans(schema, table)
        found: dict[str, list[tuple[Any, ...]]] = {}
        for row in rows:
            found.setdefault(str(row[0]), []).append(row)
        return tuple(
            self._index(table, name, parts, sizes.get(name), scans) for name, parts in found.items()
        )

    def _index(
        self,
        table: str,
        name: str,
        parts: Sequence[tuple[Any, ...]],
        pages: int | None,
        scans: Mapping[str, int],
    ) -> IndexFacts:
        keys = tuple(
            IndexKey(
                str(p[2]) if p[2] is not None and p[4] is None else "",
                expression=_expression(p[2], p[4], p[7]),
                descending=p[3] == "D",
                # There is one place for NULL in each direction: it is the one that goes unsaid.
                nulls_first=p[3] == "D",
            )
            for p in parts
        )
        unique, primary = not int(parts[0][1]), name == "PRIMARY"
        method = str(parts[0][5]).lower()
        shown = ", ".join(
            (quoted(str(p[2])) if p[2] is not None else f"({p[7]})")
            + (f"({p[4]})" if p[4] is not None else "")
            + (" DESC" if p[3] == "D" else "")
            for p in parts
        )
        kind = "UNIQUE " if unique else "FULLTEXT " if method == "fulltext" else ""
        kind = "SPATIAL " if method in ("spatial", "rtree") else kind
        # What is not read is worth no more than one that is invalid: nobody gets rows by it.
        return IndexFacts(
            name,
            "btree" if method in ("btree", "hash") else method,
            keys,
            unique=unique,
            primary=primary,
            valid=not (parts[0][6] or 0),
            definition=f"CREATE {kind}INDEX {quoted(name)} ON {quoted(table)} ({shown})",
            size_bytes=(pages or 0) * PAGE_BYTES,
            pages=pages or 0,
            constraint=unique,
            scans=scans.get(name) if scans else None,
        )

    def _scans(self, schema: str, table: str) -> Mapping[str, int]:
        """How often each index was read since the server started, where it counts that."""
        try:
            rows = self.connection.asked(
                "SELECT INDEX_NAME, COUNT_READ FROM "
                "performance_schema.table_io_waits_summary_by_index_usage "
                "WHERE OBJECT_SCHEMA = %s AND OBJECT_NAME = %s AND INDEX_NAME IS NOT NULL",
                schema,
                table,
            )
        except HumbleError:
            return {}
        # It counts rows, not uses: what is told is that there was none.
        return {str(name): 0 for name, count in rows if not int(count)}

    def _columns(
        self, schema: str, table: str, rows: float, indexes: Sequence[IndexFacts]
    ) -> dict[str, ColumnFacts]:
        found = self.connection.asked(
            "SELECT COLUMN_NAME, COLUMN_TYPE, DATA_TYPE, ORDINAL_POSITION, IS_NULLABLE, "
            "CHARACTER_OCTET_LENGTH, COLLATION_NAME FROM information_schema.COLUMNS "
            "WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s ORDER BY ORDINAL_POSITION",
            schema,
            table,
        )
        distinct = self._distinct(schema, table, rows, indexes)
        kept = self._kept(schema, table)
        columns = {}
        for name, shown, kind, place, nullable, octets, collation in found:
            length = _length(str(shown), str(kind).lower())
            nulls, width, each = kept.get(str(name), (None, None, None))
            values = distinct.get(str(name))
            if each is not None and rows:
                values = -1.0 if each <= 1.0 else max(1.0, rows / each)
            columns[str(name)] = ColumnFacts(
                str(name),
                str(shown),
                int(place),
                nullable == "NO",
                length if length else -1,
                1,
                mean_width_bytes=round(width) if width is not None else _guessed(length, octets),
                null_share=nulls,
                distinct=values,
                collation=str(collation or ""),
                sorted_by_bytes=collation is None or str(collation).endswith("_bin"),
                like_in_any_order=True,
                sortable=str(kind).lower() not in _UNSORTABLE,
                longest_bytes=None if octets is None else int(octets),
            )
        return columns

    def _distinct(
        self, schema: str, table: str, rows: float, indexes: Sequence[IndexFacts]
    ) -> dict[str, float]:
        """Distinct values of columns that an index begins with, from the storage engine."""
        found: dict[str, float] = {}
        for index in indexes:
            first = index.key_columns[0] if index.key_columns else ""
            if first and index.unique and len(index.keys) == 1:
                found[first] = -1.0
        try:
            stats = self.connection.asked(
                "SELECT index_name, stat_value FROM mysql.innodb_index_stats "
                "WHERE database_name = %s AND table_name = %s AND stat_name = 'n_diff_pfx01'",
                schema,
                table,
            )
        except HumbleError:
            return found
        by_name = {str(name): float(value) for name, value in stats}
        for index in indexes:
            first = index.key_columns[0] if index.key_columns else ""
            if first and first not in found and index.name in by_name:
                values = by_name[index.name]
                found[first] = -1.0 if rows and values >= 0.98 * rows else max(1.0, values)
        return found

    def _kept(
        self, schema: str, table: str
    ) -> Mapping[str, tuple[float | None, float | None, float | None]]:
        """Share of NULL, mean bytes and rows for each value, of statistics that MariaDB keeps."""
        if not self.connection.member.mariadb:
            return {}
        try:
            rows = self.connection.asked(
                "SELECT column_name, nulls_ratio, avg_length, avg_frequency "
                "FROM mysql.column_stats WHERE db_name = %s AND table_name = %s",
                schema,
                table,
            )
        except HumbleError:
            return {}
        return {str(name): (_float(n), _float(w), _float(f)) for name, n, w, f in rows}

    def _foreign_keys(self, schema: str, table: str) -> Iterable[ForeignKey]:
        rows = self.connection.asked(
            "SELECT k.CONSTRAINT_NAME, k.COLUMN_NAME, k.REFERENCED_TABLE_SCHEMA, "
            "k.REFERENCED_TABLE_NAME, k.REFERENCED_COLUMN_NAME, r.DELETE_RULE "
            "FROM information_schema.KEY_COLUMN_USAGE k "
            "JOIN information_schema.REFERENTIAL_CONSTRAINTS r "
            "ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA "
            "AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME AND r.TABLE_NAME = k.TABLE_NAME "
            "WHERE k.TABLE_SCHEMA = %s AND k.TABLE_NAME = %s "
            "AND k.REFERENCED_TABLE_NAME IS NOT NULL ORDER BY 1, k.ORDINAL_POSITION",
            schema,
            table,
        )
        found: dict[str, list[tuple[Any, ...]]] = {}
        for row in rows:
            found.setdefault(str(row[0]), []).append(row)
        for name, parts in found.items():
            other = str(parts[0][2])
            yield ForeignKey(
                name,
                tuple(str(p[1]) for p in parts),
                TableName("" if other == self.database else other, str(parts[0][3])),
                tuple(str(p[4]) for p in parts),
                str(parts[0][5]).lower(),
            )


def _expression(column: object, length: object, expression: object) -> str:
    """What a key holds that is no whole column: the beginnings of one, or an expression."""
    if column is not None:
        return "" if length is None else Beginning(str(column), int(str(length))).key.expression
    return str(expression or "").replace("`", "").replace("\\'", "'")


def _length(shown: str, kind: str) -> int:
    """Bytes of a type of fixed length; 0 for a varying one."""
    decimal = _DECIMAL.match(shown)
    if decimal is not None:
        return int(decimal[1]) // 2 + 1
    fraction = _FRACTION.match(shown)
    return _FIXED_BYTES.get(kind, 0) + ((int(fraction[1]) + 1) // 2 if fraction else 0)


def _guessed(length: int, octets: object) -> int | None:
    if length:
        return length
    return None if octets is None else min(64, max(1, int(str(octets)) // 8))


def _float(value: object) -> float | None:
    return None if value is None else float(str(value))


def _moment(value: object) -> datetime | None:
    if isinstance(value, datetime):
        return value
    try:
        return datetime.fromisoformat(str(value))
    except ValueError:
        return None
