"""What a change of rows sets off behind its statement: triggers, and keys that refer to it.

EXPLAIN QUERY PLAN says nothing of what a trigger does, nor of a key that deletes or changes the
rows which refer to a deleted one. The listing of the virtual machine has all of it: each such
program follows the statement's own, and a check of a key is a loop that counts what it finds
(manual, "The SQLite Bytecode Engine": Program, Trace, FkCounter). What is found there is asked
of the planner again, as statements of their own with parameters for the old and the new row.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence, Set
from contextlib import contextmanager
from dataclasses import dataclass

import apsw

from humble_ledger.core.schema.facts import ForeignKey
from humble_ledger.core.statements.kinds import Statement, StatementKind, kind_of
from humble_ledger.core.statements.tokens import tokens
from humble_ledger.engines.sqlite.asking import rows
from humble_ledger.engines.sqlite.one_statement import execute
from humble_ledger.engines.sqlite.samples import quoted
from humble_ledger.engines.sqlite.schema import Schema, Table
from humble_ledger.engines.sqlite.values import Value, bindings
from humble_ledger.errors import StatementRejected

_TRIGGER = "-- TRIGGER "
_OPENS = ("OpenRead", "OpenWrite")
_LOOPS = ("Rewind", "Last", "SeekGE", "SeekGT", "SeekLE", "SeekLT")
_ROW = re.compile(r"(?i)(?:old|new)")
Code = tuple[int, str, int, int, int, object]


@dataclass(frozen=True, slots=True)
class SetOff:
    """One statement that is run for each changed row, and what asks for it.

    ``listing`` are the rows of its EXPLAIN QUERY PLAN, empty where it cannot be asked alone.
    """

    label: str
    sql: str
    listing: tuple[Sequence[object], ...]


def set_off(
    connection: apsw.Connection, statement: Statement, sql: str, given: Mapping[str, Value],
    schema: Schema,
) -> tuple[SetOff, ...]:  # fmt: skip
    """All that a change sets off for each of its rows, with foreign keys kept; () for a query."""
    if kind_of(statement.sql) is not StatementKind.CHANGES:
        return ()
    with keys_kept(connection):
        listed = execute(connection, f"EXPLAIN {sql}", given, can_cache=False).fetchall()
    places = {
        int(str(page)): str(table)
        for table, page in rows(connection, "SELECT tbl_name, rootpage FROM sqlite_schema")
        if page
    }
    own, *others = _programs(tuple(each[:6]) for each in listed)
    changed = {
        str(code[5]).lower()
        for program in (own, *others)
        for code in program
        if code[1] in ("Delete", "Insert") and code[5]
    }
    found = [*_checked(own, places, schema, changed)]
    for program in others:
        found += _done(program, places, schema, changed)
    return tuple(
        SetOff(label, text, _listing(connection, text)) for label, text in dict.fromkeys(found)
    )


@contextmanager
def keys_kept(connection: apsw.Connection, *, kept: bool = True) -> Iterator[None]:
    """A connection that keeps foreign keys meanwhile, or one that does not."""
    before = connection.config(apsw.SQLITE_DBCONFIG_ENABLE_FKEY, -1)
    connection.config(apsw.SQLITE_DBCONFIG_ENABLE_FKEY, int(kept))
    try:
        yield
    finally:
        connection.config(apsw.SQLITE_DBCONFIG_ENABLE_FKEY, before)


def keep_keys(connection: apsw.Connection) -> None:
    """Keep foreign keys from now on, as most applications ask for with PRAGMA foreign_keys."""
    connection.config(apsw.SQLITE_DBCONFIG_ENABLE_FKEY, 1)


def _programs(listed: Iterable[tuple[object, ...]]) -> list[list[Code]]:
    """The statement's own program, and behind it those of triggers and of keys."""
    found: list[list[Code]] = []
    for address, code, one, two, three, four in listed:
        if code == "Init" or not found:
            found.append([])
        numbers = (int(str(one)), int(str(two)), int(str(three)))
        found[-1].append((int(str(address)), str(code), *numbers, four))
    return found


def _checked(
    program: Sequence[Code], places: Mapping[int, str], schema: Schema, changed: Set[str]
) -> Iterator[tuple[str, str]]:
    """Keys of other tables, in which each row that goes is looked for."""
    opened, looped = "", False
    for _, code, _, page, _, _ in program:
        if code in _OPENS:
            opened, looped = places.get(page, ""), False
        elif code in _LOOPS:
            looped = True
        elif code == "FkCounter" and looped:
            for key in _keys(schema.get(opened), changed):
                yield _label(opened, key), _asked(opened, key)


def _done(
    program: Sequence[Code], places: Mapping[int, str], schema: Schema, changed: Set[str]
) -> Iterator[tuple[str, str]]:
    """The statements of one program: those of a trigger, or what a key does."""
    name = str(program[0][5] or "")
    if not name.startswith(_TRIGGER):
        child = next((places.get(c[3], "") for c in program if c[1] in _OPENS), "")
        for key in _keys(schema.get(child), changed):
            yield _label(child, key), _asked(child, key)
        return
    told = f"trigger {name.removeprefix(_TRIGGER)}"
    texts = [str(c[5] or "").removeprefix("-- ") for c in program if c[1] == "Trace"]
    for text in texts:
        yield told, _with_parameters(text)


def _keys(table: Table | None, changed: Set[str]) -> Iterator[ForeignKey]:
    """The keys of a table that refer to one of those that are changed."""
    for key in table.foreign_keys if table is not None else ():
        if key.refers_to.name.lower() in changed:
            yield key


def _label(table: str, key: ForeignKey) -> str:
    return f"foreign key of {table} ({', '.join(key.columns)})"


def _asked(table: str, key: ForeignKey) -> str:
    """What is asked of a table that refers to the changed one."""
    searched = " AND ".join(f"{quoted(c)} = ${n}" for n, c in enumerate(key.columns, 1))
    return f"SELECT 1 FROM {quoted(table)} WHERE {searched}"  # noqa: S608


def _with_parameters(text: str) -> str:
    """A trigger's statement with $1, $2 … for the columns of the old and the new row."""
    parts: list[str] = []
    numbers: dict[str, int] = {}
    waiting: list[str] = []
    for token in tokens(text):
        if not waiting and _ROW.fullmatch(token.text) and parts[-1:] != ["."]:
            waiting = [token.text]
        elif len(waiting) == 1 and token.text == ".":
            waiting.append(token.text)
        elif len(waiting) == 2:
            name = f"{waiting[0]}.{token.text}".lower()
            parts.append(f"${numbers.setdefault(name, len(numbers) + 1)}")
            waiting = []
        else:
            parts += [*waiting, token.text]
            waiting = []
    return "".join([*parts, *waiting])


def _listing(connection: apsw.Connection, sql: str) -> tuple[Sequence[object], ...]:
    """The planner's answer; nothing for what makes sense in a trigger alone, such as RAISE."""
    try:
        asked = execute(connection, f"EXPLAIN QUERY PLAN {sql}", bindings(sql, ()), can_cache=False)
        return tuple(asked.fetchall())
    except (apsw.Error, StatementRejected):
        return ()
