"""What a hollow is made from beside the schema and the outline: statistics, ends, policies.

Read within the same look as the outline.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from psycopg import sql

from humble_ledger.core.remedies.together import ColumnGroup
from humble_ledger.core.schema.facts import TableName
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.hollow.heights import Heights, read_heights
from humble_ledger.engines.postgresql.hollow.others_functions import run_others_functions
from humble_ledger.engines.postgresql.hollow.outline import SYSTEM_SCHEMAS, Outline, Relation
from humble_ledger.engines.postgresql.hollow.policies import Policy, read_policies
from humble_ledger.errors import HumbleError

# Whose ends are read although no index leads to them: reading so many pages takes milliseconds.
MOST_PAGES_READ = 2_000
_STATISTICS_SQL = """
SELECT s.schemaname, s.tablename, s.attname, s.inherited, s.null_frac, s.avg_width, s.n_distinct,
       s.most_common_vals::text, s.most_common_freqs::text, s.histogram_bounds::text,
       s.correlation, s.most_common_elems::text, s.most_common_elem_freqs::text,
       s.elem_count_histogram::text, {ranges}
FROM pg_stats s
WHERE (s.schemaname, s.tablename) IN (SELECT * FROM unnest(%s::text[], %s::text[]))
"""
_RANGES_FROM = 170_000
_RANGES = "s.range_length_histogram::text, s.range_empty_frac, s.range_bounds_histogram::text"
_OF_COLUMN = (
    "WHERE p.starelid = format('%%I.%%I', s.schemaname, s.tablename)::regclass "
    "AND p.stainherit = s.inherited AND p.staattnum = (SELECT a.attnum FROM pg_attribute a "
    "WHERE a.attrelid = p.starelid AND a.attname = s.attname)"
)


def _slot(kind: int, what: str) -> str:
    """What the slot of one kind holds, in the catalogue behind `pg_stats`."""
    slots = " ".join(f"WHEN p.stakind{n} THEN {what.format(n=n)}" for n in range(1, 6))
    return f"(SELECT (CASE {kind} {slots} END)::text FROM pg_statistic p {_OF_COLUMN})"  # noqa: S608


# Before that version only the catalogue behind the view has them, and only for a superuser.
_RANGES_BEFORE = (
    f"{_slot(6, 'p.stavalues{n}')}, {_slot(6, 'p.stanumbers{n}[1]')}::real, "
    f"{_slot(7, 'p.stavalues{n}')}"
)
# Kinds of statistics from 100 on are for types of extensions; geometry keeps its own as numbers.
_OWN_KINDS_SQL = """
SELECT n.nspname, c.relname, a.attname, p.stainherit, k.kind, k.numbers::text
FROM pg_statistic p
JOIN pg_class c ON c.oid = p.starelid JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN pg_attribute a ON a.attrelid = p.starelid AND a.attnum = p.staattnum
CROSS JOIN LATERAL (VALUES {slots}) AS k(kind, numbers, only_numbers)
WHERE k.kind >= 100 AND k.only_numbers AND k.numbers IS NOT NULL AND n.nspname <> ALL(%s)
""".format(
    slots=", ".join(f"(p.stakind{n}, p.stanumbers{n}, p.stavalues{n} IS NULL)" for n in range(1, 6))
)
_LABELS_SQL = """
SELECT n.nspname, t.typname, e.enumlabel, e.oid::bigint
FROM pg_enum e JOIN pg_type t ON t.oid = e.enumtypid JOIN pg_namespace n ON n.oid = t.typnamespace
"""
_EXTENDED_SQL = """
SELECT n.nspname, e.stxname, {inherited}, d.stxdndistinct::bytea, d.stxddependencies::bytea,
       d.stxdmcv::bytea, e.stxkeys::int2[]::int[]
FROM pg_statistic_ext e JOIN pg_statistic_ext_data d ON d.stxoid = e.oid
JOIN pg_namespace n ON n.oid = e.stxnamespace
JOIN pg_class t ON t.oid = e.stxrelid JOIN pg_namespace tn ON tn.oid = t.relnamespace
WHERE (tn.nspname, t.relname) IN (SELECT * FROM unnest(%s::text[], %s::text[]))
"""
_INHERITED_FROM = 150_000
_EXPRESSIONS_FROM = 140_000
# Their owners may read these, too. As text, like those of columns; arrays have no elements here.
_EXPRESSIONS_SQL = """
SELECT s.statistics_schemaname, s.statistics_name, s.schemaname, s.tablename, s.expr, {inherited},
       s.null_frac, s.avg_width, s.n_distinct, s.most_common_vals::text, s.most_common_freqs::text,
       s.histogram_bounds::text, s.correlation
FROM pg_stats_ext_exprs s
WHERE s.null_frac IS NOT NULL
  AND (s.schemaname, s.tablename) IN (SELECT * FROM unnest(%s::text[], %s::text[]))
"""
# Of those that only a superuser may read, which columns they are about.
_UNREAD_SQL = """
SELECT n.nspname, e.stxname, tn.nspname, t.relname,
       (SELECT array_agg(a.attname::text ORDER BY a.attnum) FROM pg_attribute a
        WHERE a.attrelid = e.stxrelid AND a.attnum = ANY (e.stxkeys::int2[])),
       to_jsonb(e) ->> 'stxexprs' IS NOT NULL
FROM pg_statistic_ext e JOIN pg_namespace n ON n.oid = e.stxnamespace
JOIN pg_class t ON t.oid = e.stxrelid JOIN pg_namespace tn ON tn.oid = t.relnamespace
WHERE has_table_privilege(t.oid, 'SELECT') ORDER BY 1, 2
"""
# Columns that an index which holds every row leads with: the planner looks up their ends in it.
_LEADING_SQL = """
SELECT n.nspname, c.relname, a.attname, bool_or(i.indexrelid IS NOT NULL)
FROM pg_attribute a
JOIN pg_class c ON c.oid = a.attrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN pg_type t ON t.oid = a.atttypid
LEFT JOIN (pg_index i JOIN pg_class x ON x.oid = i.indexrelid
           JOIN pg_am m ON m.oid = x.relam AND m.amname = 'btree')
       ON i.indrelid = c.oid AND i.indkey[0] = a.attnum AND i.indisvalid AND i.indpred IS NULL
       -- Our reading is counted as a use of the index, unless we may switch counting off.
       AND (current_setting('track_counts') = 'off'
            OR pg_stat_get_numscans(i.indexrelid) > 0)
WHERE c.relkind = 'r' AND c.reltuples > 0 AND a.attnum > 0 AND NOT a.attisdropped
  AND (n.nspname, c.relname) IN (SELECT * FROM unnest(%s::text[], %s::text[]))
  AND EXISTS (SELECT FROM pg_opclass o JOIN pg_am b ON b.oid = o.opcmethod
              WHERE b.amname = 'btree' AND o.opcdefault
                AND (o.opcintype = t.oid OR o.opcintype = t.typbasetype
                     OR t.typtype = 'e' AND o.opcintype = 'anyenum'::regtype
                     OR t.typname = 'varchar' AND o.opcintype = 'text'::regtype))
GROUP BY 1, 2, 3, a.attnum, t.typcategory
HAVING bool_or(i.indexrelid IS NOT NULL)
    OR max(c.relpages) <= %s AND t.typcategory IN ('N', 'D', 'S', 'T', 'I', 'E')
ORDER BY 1, 2, a.attnum
"""
_ENDS_TIMEOUT_MS = 2_000
# What the texts of values are written by, so that any server reads them the same.
PLAIN_TEXTS = {
    "DateStyle": "ISO, YMD", "IntervalStyle": "postgres", "TimeZone": "UTC",
    "extra_float_digits": "1", "bytea_output": "hex",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class ColumnStatistics:
    """What `pg_stats` tells of one column, lists of values as text.

    ``own_kinds`` are numbers that the column's type gathers for itself, each with its kind.
    """

    schema: str
    table: str
    column: str
    inherited: bool
    null_share: float
    width: int
    distinct: float
    common: str | None = None
    common_shares: str | None = None
    bounds: str | None = None
    correlation: float | None = None
    elements: str | None = None
    element_shares: str | None = None
    element_counts: str | None = None
    range_lengths: str | None = None
    empty_share: float | None = None
    range_bounds: str | None = None
    own_kinds: tuple[tuple[int, str], ...] = ()


@dataclass(frozen=True, slots=True)
class ExtendedStatistics:
    """One statistics object as the server keeps it.

    ``columns`` are the numbers that the target's columns have in it; empty when they are the
    hollow's own. What it keeps of expressions is apart: `ExpressionStatistics`.
    """

    schema: str
    name: str
    inherited: bool
    distinct: bytes | None
    dependencies: bytes | None
    common: bytes | None
    columns: Sequence[int] = ()


@dataclass(frozen=True, slots=True)
class ExpressionStatistics:
    """What a statistics object, by schema and name, keeps of one of its expressions.

    ``found`` has the table, and no column.
    """

    schema: str
    name: str
    expression: str
    found: ColumnStatistics


@dataclass(frozen=True, slots=True)
class Source:
    """All else that is read of the target beside its schema.

    ``ends`` has the least and the greatest value, as text, of columns by (schema, table, column).
    ``labels`` are those of enumerations (schema, type, label, number), ``policies`` are those
    that hold for the target's user, ``expressions`` what is known of those in statistics objects;
    ``heights`` are those of b-trees whose length leaves them open; ``notes`` say what could not
    be read.
    """

    relations: tuple[Relation, ...]
    statistics: tuple[ColumnStatistics, ...]
    extended: tuple[ExtendedStatistics, ...]
    ends: Mapping[tuple[str, str, str], tuple[str | None, str | None]]
    labels: tuple[tuple[str, str, str, int], ...] = ()
    policies: tuple[Policy, ...] = ()
    expressions: tuple[ExpressionStatistics, ...] = ()
    heights: Heights = field(default_factory=dict)
    notes: tuple[str, ...] = ()


def read_source(
    connection: Connection, outline: Outline, tables: Collection[tuple[str, str]] | None = None
) -> Source:
    """Statistics and ends, inside `one_look`; of these ``tables`` alone where they are given."""
    relations = tuple(r for r in outline.relations if tables is None or r.of in tables)
    guarded = [f"{r.schema}.{r.name}" for r in relations if r.guarded]
    notes = (
        [
            f"statistics of {', '.join(guarded[:3])} are kept from you by row-level security: "
            "conditions on it are guessed; ask as its owner, or as a role with BYPASSRLS"
        ]
        if guarded and tables is None  # else it was said when the hollow was made
        else []
    )
    version = outline.database.version
    with translated():
        for name, value in PLAIN_TEXTS.items():
            connection.execute("SELECT set_config(%s, %s, true)", (name, value))
        statistics = _statistics(connection, version, relations)
        extended = _extended(connection, version, relations)
        expressions = _of_expressions(connection, version, relations)
        others = run_others_functions(connection, relations)
        ours = [r for r in relations if r.of not in others]
        if others and tables is None:
            named = ", ".join(sorted(".".join(table) for table in others)[:3])
            notes.append(
                f"the least and greatest values of {named} are not read: functions of another "
                "owner would run with your rights"
            )
        ends = _ends(connection, ours, notes)
        labels = tuple(
            (str(schema), str(type_), str(label), int(str(number)))
            for schema, type_, label, number in connection.execute(_LABELS_SQL)
        )
        policies = read_policies(connection) if guarded else ()
    widths = {(s.schema, s.table, s.column): s.width for s in statistics if not s.inherited}
    heights = read_heights(connection, ours, widths)
    return Source(
        relations, statistics, extended, ends, labels, policies, expressions, heights, tuple(notes)
    )


def _names(relations: Iterable[Relation]) -> tuple[list[str], list[str]]:
    kept = list(relations)
    return [r.schema for r in kept], [r.name for r in kept]


def _statistics(
    connection: Connection, version: int, relations: Sequence[Relation]
) -> tuple[ColumnStatistics, ...]:
    ranges = _RANGES
    if version < _RANGES_FROM:
        allowed = connection.execute(
            "SELECT has_table_privilege('pg_statistic', 'SELECT')"
        ).fetchone()
        ranges = _RANGES_BEFORE if allowed and allowed[0] else "null, null, null"
    query = sql.SQL(_STATISTICS_SQL).format(ranges=sql.SQL(ranges))
    rows = connection.execute(query, _names(relations)).fetchall()
    own = _own_kinds(connection)
    return tuple(
        replace(each, own_kinds=own.get((each.schema, each.table, each.column, each.inherited), ()))
        for each in (ColumnStatistics(*row) for row in rows)
    )


def _own_kinds(
    connection: Connection,
) -> dict[tuple[str, str, str, bool], tuple[tuple[int, str], ...]]:
    """What types of extensions gather for themselves; only a superuser may read it."""
    allowed = connection.execute("SELECT has_table_privilege('pg_statistic', 'SELECT')").fetchone()
    found: dict[tuple[str, str, str, bool], tuple[tuple[int, str], ...]] = {}
    if not allowed or not allowed[0]:
        return found
    rows = connection.execute(_OWN_KINDS_SQL, (list(SYSTEM_SCHEMAS),)).fetchall()
    for schema, table, column, inherited, kind, numbers in rows:
        key = (str(schema), str(table), str(column), bool(inherited))
        found[key] = (*found.get(key, ()), (int(str(kind)), str(numbers)))
    return found


def _extended(
    connection: Connection, version: int, relations: Sequence[Relation]
) -> tuple[ExtendedStatistics, ...]:
    """The statistics objects; only a superuser may read all that they hold."""
    any_ = connection.execute("SELECT count(*) FROM pg_statistic_ext").fetchone()
    if any_ is None or not any_[0]:
        return ()
    allowed = connection.execute(
        "SELECT has_table_privilege('pg_statistic_ext_data', 'SELECT')"
    ).fetchone()
    if allowed is not None and allowed[0]:
        inherited = "d.stxdinherit" if version >= _INHERITED_FROM else "false"
        query = sql.SQL(_EXTENDED_SQL).format(inherited=sql.SQL(inherited))
        rows = connection.execute(query, _names(relations)).fetchall()
        return tuple(ExtendedStatistics(*row) for row in rows)
    return ()


def _of_expressions(
    connection: Connection, version: int, relations: Sequence[Relation]
) -> tuple[ExpressionStatistics, ...]:
    if version < _EXPRESSIONS_FROM:
        return ()
    inherited = "s.inherited" if version >= _INHERITED_FROM else "false"
    query = sql.SQL(_EXPRESSIONS_SQL).format(inherited=sql.SQL(inherited))
    rows = connection.execute(query, _names(relations)).fetchall()
    return tuple(
        ExpressionStatistics(
            str(schema), str(name), str(expression), ColumnStatistics(of, table, "", *figures)
        )
        for schema, name, of, table, expression, *figures in rows
    )


def unread_groups(
    connection: Connection,
) -> tuple[list[tuple[str, str, ColumnGroup]], list[str]]:
    """Statistics objects that only a superuser may read: schema, name, and their columns.

    And the names of those that are left out, as they are of expressions, too. Tables that may not
    be read count for neither.
    """
    with translated():
        row = connection.execute(
            "SELECT has_table_privilege('pg_statistic_ext_data', 'SELECT')"
        ).fetchone()
        if row is None or row[0]:
            return [], []
        rows = connection.execute(_UNREAD_SQL).fetchall()
    together = [
        (str(schema), str(name), ColumnGroup(TableName(str(of), str(table)), tuple(columns or ())))
        for schema, name, of, table, columns, expressions in rows
        if not expressions
    ]
    left = [f"{schema}.{name}" for schema, name, *_, columns, more in rows if more and columns]
    return [each for each in together if len(each[2].columns) > 1], left


def _ends(
    connection: Connection, relations: Sequence[Relation], notes: list[str]
) -> dict[tuple[str, str, str], tuple[str | None, str | None]]:
    given = (*_names(r for r in relations if r.kind == "r"), MOST_PAGES_READ)
    rows = connection.execute(_LEADING_SQL, given).fetchall()
    by_table: dict[tuple[str, str], list[tuple[str, bool]]] = {}
    for schema, table, column, indexed in rows:
        by_table.setdefault((str(schema), str(table)), []).append((str(column), bool(indexed)))
    found: dict[tuple[str, str, str], tuple[str | None, str | None]] = {}
    failed = []
    connection.execute(
        "SELECT set_config('statement_timeout', %s, true)", (f"{_ENDS_TIMEOUT_MS}ms",)
    )
    for (schema, table), columns in by_table.items():
        values = _ends_of(connection, schema, table, columns)
        if values is None:
            failed.append(f"{schema}.{table}")
            continue
        for place, (column, _) in enumerate(columns):
            found[schema, table, column] = (values[2 * place], values[2 * place + 1])
    if failed:
        notes.append(
            f"the least and greatest values of {', '.join(failed[:3])} could not be read: "
            "conditions near them may be estimated otherwise"
        )
    return found


def _ends_of(
    connection: Connection, schema: str, table: str, columns: Sequence[tuple[str, bool]]
) -> tuple[str | None, ...] | None:
    """The least and the greatest of each column: by its index, else all in one scan."""
    source = sql.Identifier(schema, table)
    end = sql.SQL(
        "(SELECT {c}::text AS shown FROM ONLY {t} WHERE {c} IS NOT NULL ORDER BY {c} {d} LIMIT 1)"
    )
    least = sql.SQL("{}({})::text")
    parts = [
        end.format(c=sql.Identifier(column), t=source, d=sql.SQL(direction))
        if indexed
        else least.format(sql.SQL(name), sql.Identifier(column))
        for column, indexed in columns
        for direction, name in (("ASC", "min"), ("DESC", "max"))
    ]
    scanned = sql.SQL("") if all(indexed for _, indexed in columns) else sql.SQL(" FROM ONLY {}")
    connection.execute("SAVEPOINT humble_ends")
    try:
        with translated():
            listed = sql.SQL(", ").join(parts)
            row = connection.execute(sql.SQL("SELECT {}{}").format(listed, scanned.format(source)))
            values = row.fetchone()
    except HumbleError:
        connection.execute("ROLLBACK TO SAVEPOINT humble_ends")
        return None
    connection.execute("RELEASE SAVEPOINT humble_ends")
    return tuple(None if v is None else str(v) for v in values or ())
