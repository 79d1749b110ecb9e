"""A schema drawn at random: types, NULLs, skew, keys, partitions, indexes, odd names."""

from __future__ import annotations

from dataclasses import dataclass
from random import Random

# A type, and a value for row n: some few values, many, or as many as there are rows.
TYPES = {
    "int": "n % {few}",
    "bigint": "n * 7 % {many}",
    "smallint": "n % 100",
    "numeric(12,3)": "(n % {many}) * 1.25",
    "float8": "(n % {many}) / 7.0",
    "text": "'word ' || n % {many}",
    "varchar(20)": "'v' || n % {few}",
    "char(6)": "lpad((n % {many})::text, 6, '0')",
    "boolean": "n % 3 = 0",
    "date": "date '2026-01-01' + (n % {few})",
    "timestamptz": "timestamptz '2026-01-01' + n * interval '7 minutes'",
    "timestamp": "timestamp '2026-01-01' + n % {many} * interval '1 hour'",
    "uuid": "md5((n % {many})::text)::uuid",
    "jsonb": "jsonb_build_object('kind', n % {few}, 'tag', 't' || n % {many}, "
    "'list', jsonb_build_array(n, n % 3))",
    "int[]": "array[n % {few}, n % 7]",
    "text[]": "array['a' || n % {few}, 'b']",
    "int4range": "int4range(n % {few}, n % {few} + 5)",
    "inet": "('10.0.' || n % 200 || '.' || n % {few} % 250)::inet",
    "interval": "n % {few} * interval '1 hour'",
    "bytea": "decode(lpad(to_hex(n % {many}), 8, '0'), 'hex')",
}
NAMES = (
    "id", "kind", "order", "Select", "naïve", 'we"ird', "two words", "user", "x", "value", "at",
    "from", "1st", "a.b", "%s", "$1", "back\\slash", "ALLCAPS", "group", "semi;colon", "it's",
    "läßt", "tab\tin", "very_long_column_name_that_is_nearly_as_long_as_the_server_allows_it",
)  # fmt: skip
TABLE_NAMES = ("reef", "Odd Table", "order", "tide", "wré", "gauge", 'qu"ote', "drop", "läng%s")


def quoted(name: str) -> str:
    """An identifier as the server takes it whatever is in it."""
    return '"' + name.replace('"', '""') + '"'


@dataclass(frozen=True)
class Column:
    """A column with its type, as it is written."""

    name: str
    type: str

    @property
    def family(self) -> str:
        """The type without its length."""
        return self.type.split("(")[0]


@dataclass(frozen=True)
class Table:
    """A table; ``columns[0]`` is its key, and ``parent`` the table it refers to with ``refers``."""

    name: str
    columns: tuple[Column, ...]
    rows: int
    parent: str = ""
    refers: str = ""


@dataclass(frozen=True)
class Schema:
    """Tables with the statements that make and fill them."""

    tables: tuple[Table, ...]
    sql: tuple[str, ...]


def schema(random: Random) -> Schema:
    """Five to seven tables, each for itself at random."""
    tables: list[Table] = []
    sql: list[str] = []
    names = random.sample(TABLE_NAMES, random.randint(5, 7))
    for place, name in enumerate(names):
        parent = random.choice(tables) if tables and random.random() < 0.7 else None
        table, made = _table(random, name, parent, partitioned=place == 1)
        tables.append(table)
        sql += made
    viewed = tables[0]
    shown = ", ".join(quoted(c.name) for c in viewed.columns[:3])
    sql.append(
        f"CREATE VIEW {quoted('seen_' + viewed.name)} AS SELECT {shown} "
        f"FROM {quoted(viewed.name)} WHERE {quoted(viewed.columns[0].name)} > 5"
    )
    tables.append(Table("seen_" + viewed.name, viewed.columns[:3], viewed.rows))
    sql += [f"ANALYZE {quoted(t.name)}" for t in tables[:-1] if random.random() < 0.85]
    return Schema(tuple(tables), tuple(sql))


def _table(
    random: Random, name: str, parent: Table | None, *, partitioned: bool
) -> tuple[Table, list[str]]:
    rows = random.choice((0, 40, 900, 6_000, 20_000))
    words = iter(random.sample(NAMES, len(NAMES)))
    key = Column(next(words), "int")
    columns = [key]
    parts = [f"{quoted(key.name)} int NOT NULL"]
    values = ["n"]
    refers = ""
    if parent is not None:
        refers = next(words)
        columns.append(Column(refers, "int"))
        parts.append(f"{quoted(refers)} int")
        limit = max(1, parent.rows)
        value = f"1 + n * 13 % {limit}" if random.random() < 0.5 else f"1 + (n * n) % {limit}"
        nothing = random.random() < 0.5 or not parent.rows
        values.append(f"CASE WHEN n % 9 > 0 AND {parent.rows} > 0 THEN {value} END"
                      if nothing else value)  # fmt: skip
    for type_ in random.sample(list(TYPES), random.randint(4, 8)):
        column = Column(next(words), type_)
        nullable = random.random() < 0.6
        value = TYPES[type_].format(few=random.choice((2, 9, 60)), many=random.choice((300, 5_000)))
        if random.random() < 0.3:  # most rows have the same
            value = f"(SELECT {value} FROM (SELECT CASE WHEN n % 10 > 0 THEN 1 ELSE n END AS n) s)"
        if nullable:
            value = f"CASE WHEN n % {random.choice((3, 20))} > 0 THEN {value} END"
        columns.append(column)
        parts.append(f"{quoted(column.name)} {type_}{'' if nullable else ' NOT NULL'}")
        values.append(value)
    table = Table(name, tuple(columns), rows, parent.name if parent else "", refers)
    own, k = quoted(name), quoted(key.name)
    tail = f" PARTITION BY RANGE ({k})" if partitioned else ""
    sql = [f"CREATE TABLE {own} ({', '.join(parts)}, PRIMARY KEY ({k})){tail}"]
    if partitioned:
        sql += [
            f"CREATE TABLE {quoted(f'{name}_{n}')} PARTITION OF {own} "
            f"FOR VALUES FROM ({low}) TO ({high})"
            for n, (low, high) in enumerate([(0, 500), (500, 5_000), (5_000, 100_000)])
        ]
    sql.append(f"INSERT INTO {own} SELECT {', '.join(values)} FROM generate_series(1, {rows}) n")
    sql += _indexes(random, table)
    if parent is not None and parent.rows and random.random() < 0.7:
        sql.append(f"ALTER TABLE {own} ADD FOREIGN KEY ({quoted(refers)}) "
                   f"REFERENCES {quoted(parent.name)}")  # fmt: skip
    return table, sql


def _indexes(random: Random, table: Table) -> list[str]:
    sorted_ = [c for c in table.columns if c.family not in ("jsonb", "int4range")]
    found = []
    for _ in range(random.randint(0, 3)):
        some = random.sample(sorted_, random.choice((1, 1, 2)))
        keys = ", ".join(quoted(c.name) for c in some)
        partial = f" WHERE {quoted(some[0].name)} IS NOT NULL" if random.random() < 0.2 else ""
        found.append(f"CREATE INDEX ON {quoted(table.name)} ({keys}){partial}")
    text = next((c for c in table.columns if c.family == "text"), None)
    if text is not None and random.random() < 0.5:
        found.append(f"CREATE INDEX ON {quoted(table.name)} (lower({quoted(text.name)}))")
    return found
