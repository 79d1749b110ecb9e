"""What this server can build an index on: asked of its planner, nothing is run or created.

An index may rest only on what never changes for the same row. The planner computes such
expressions of constants beforehand and leaves all others as they are; so each column is
replaced by a constant of its type, and what EXPLAIN then shows tells the one from the other.
"""

from __future__ import annotations

from psycopg import sql

from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.tokens import Token, TokenKind, meaningful, tokens, unquoted
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.one_statement import UserCursor
from humble_ledger.engines.postgresql.transactions import reading
from humble_ledger.errors import HumbleError

_TYPES_SQL = """
SELECT a.attname, pg_catalog.format_type(t.oid, NULL) AS type, t.typcategory,
       CASE t.typtype
           -- Somebody else chose the labels: none is taken that could end the text it stands in.
           WHEN 'e' THEN (SELECT e.enumlabel::text FROM pg_catalog.pg_enum e
                          WHERE e.enumtypid = t.oid AND e.enumlabel !~ '[^[:alnum:]_ -]'
                          ORDER BY e.enumsortorder LIMIT 1)
       END AS value
FROM pg_catalog.pg_attribute a
JOIN pg_catalog.pg_type d ON d.oid = a.atttypid
-- A value of a domain is one of the type below it: its checks would refuse the one we make up.
JOIN pg_catalog.pg_type t ON t.oid = CASE d.typtype WHEN 'd' THEN d.typbasetype ELSE d.oid END
WHERE a.attrelid = pg_catalog.to_regclass(%s)::oid AND a.attnum > 0 AND NOT a.attisdropped
"""
_CLASSES_SQL = """
SELECT m.amname::text, o.opcname::text
FROM pg_catalog.pg_opclass o JOIN pg_catalog.pg_am m ON m.oid = o.opcmethod
WHERE pg_catalog.pg_opclass_is_visible(o.oid)
"""
# By the category of a type: any value of it will do.
_VALUES = {
    "N": "1",
    "S": "1",
    "B": "true",
    "D": "2020-02-03",
    "T": "1 day",
    "A": "{}",
    "R": "empty",
}
_LABELLED, _WITH_PARTS = "E", ("C", "P")  # categories of enums; of rows, and of what may be any
_OF_TYPE = {
    "json": "{}",
    "jsonb": "{}",
    "uuid": "00000000-0000-0000-0000-000000000000",
    "bytea": "",
    "tsvector": "",
    "inet": "10.0.0.1",
    "cidr": "10.0.0.0/8",
    "macaddr": "08:00:2b:01:02:03",
    "bit": "1",
    "bit varying": "1",
    "xml": "",
    "point": "(0,0)",
    "box": "((0,0),(1,1))",
    "time without time zone": "01:02:03",
    "time with time zone": "01:02:03+00",
}
_NAMES = (TokenKind.WORD, TokenKind.QUOTED)
_CONSTANT = ("true", "false", "null")


def operator_classes(connection: Connection) -> frozenset[str]:
    """The operator classes of this database, as "method:class"."""
    with reading(connection), translated():
        rows = connection.execute(_CLASSES_SQL).fetchall()
    return frozenset(f"{method}:{name}" for method, name in rows)


def is_immutable(connection: Connection, table: TableName, expression: str) -> bool:
    """Whether the server may keep an index on this expression of a table's columns."""
    name = sql.Identifier(table.schema, table.name).as_string(connection)
    with translated():
        rows = connection.execute(_TYPES_SQL, (name,)).fetchall()
    values = {str(row[0]): _constant(str(row[1]), str(row[2]), row[3]) for row in rows}
    asked = _with_constants(expression, values)
    if asked is None:
        return False
    try:
        with translated(), UserCursor(connection) as cursor:
            found = cursor.execute(
                f"EXPLAIN (VERBOSE, COSTS OFF, FORMAT JSON) SELECT ({asked})".encode()
            ).fetchone()
    except HumbleError:
        return False
    assert found is not None
    return _is_constant(str(found[0][0]["Plan"]["Output"][0]))


def _constant(type_: str, category: str, label: str | None) -> str | None:
    """A value of a type: one that any of its kind has, else an empty text.

    None where making one could run what somebody else wrote: checks of the parts of a row.
    """
    if category in _WITH_PARTS or (category == _LABELLED and label is None):
        return None
    value = label if label is not None else _OF_TYPE.get(type_, _VALUES.get(category, ""))
    return f"'{value}'::{type_}"


def _with_constants(expression: str, values: dict[str, str | None]) -> str | None:
    """The expression with a constant for each column; None when one of them has none."""
    kept, said = list(tokens(expression)), ""
    for at, token in enumerate(kept):
        name = unquoted(token.text) if token.kind is TokenKind.QUOTED else token.text.lower()
        if token.kind in _NAMES and name in values and not _is_else(kept, at):
            constant = values[name]
            if constant is None:
                return None
            said += constant
        else:
            said += token.text
    return said


def _is_else(kept: list[Token], at: int) -> bool:
    """Whether a name is one of a function or a type rather than of a column."""
    solid = [t for t in kept[:at] if t.kind is not TokenKind.SPACE]
    before = solid[-1].text if solid else ""
    after = next((t.text for t in kept[at + 1 :] if t.kind is not TokenKind.SPACE), "")
    return before == "::" or after == "("


def _is_constant(text: str) -> bool:
    words = meaningful(text)
    if sum(token.text == "::" for token in words) > 1:
        return False
    value = []
    for token in words:
        if token.text == "::":
            break
        value.append(token)
    return all(
        t.kind in (TokenKind.STRING, TokenKind.NUMBER)
        or t.text in ("(", ")", "-")
        or t.is_word(*_CONSTANT)
        for t in value
    )
