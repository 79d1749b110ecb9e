"""What the SQL of one kind of server looks like, as data: handed on, never looked up.

The conditions of plans are in one notation for all servers (see `core.statements.conditions`);
this is for the statements that users write, and for those that they are given.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.schema.quoting import Quoting, table_identifier
from humble_ledger.core.statements.sql_dialect import DIALECT

_NUMBER = re.compile(r"-?\d+(?:\.\d+)?")


@dataclass(frozen=True, slots=True)
class StatisticsWords:
    """How a user says of what statistics are gathered, and how many values they list.

    ``together`` makes those of several {columns}, ``of_expression`` those of an {expression} of a
    {table}, both with a {name} by which they are ``dropped``. ``target`` sets how many {values} of
    a {column} are listed, ``usual_target`` stands for the server's usual number.
    """

    together: str = ""
    of_expression: str = ""
    dropped: str = ""
    target: str = ""
    usual_target: str = ""


@dataclass(frozen=True, slots=True)
class PartedBuild:
    """How an index is built online partition by partition, and then joined.

    ``whole`` makes the empty index {name} of the whole {table}, with a {body} of keys;
    ``attached`` joins the index {part} to that of the {whole}.
    """

    whole: str
    attached: str


@dataclass(frozen=True, slots=True)
class Dialect:
    """One server's SQL.

    ``parser`` is its name for the parser of statements, ``default_schema`` the one that a table's
    name without one stands for, ``quoting`` how names are written. ``readable`` writes a text so
    that the server still reads the same, and the core's own lexical rules part it rightly.

    ``online`` is the word by which an index is built while others write, "" where there is none,
    ``online_behind`` what is written behind the statement for that, and ``online_costs`` what it
    takes, for people; ``expression_behind`` is written in place of it for an index on an expression
    where writers must wait for one ("": they need not); ``online_drop`` is the whole statement that
    drops one, where that is another one. ``methods`` are the kinds of index, ``includes`` tells
    whether one can hold columns that are no keys, ``most_key_bytes`` how long its keys can be
    together (0: no limit that counts). ``script_head`` begins a migration, ``parted`` are the words
    of an index that is built partition by partition, ``after_build`` is run when an index was
    built, with its {name}. An index's name is known within its table alone where
    ``index_of_table``; NULL is the least of all values where ``nulls_lowest``, else the greatest,
    and where it stands can be asked for. ``beginning`` writes a key that holds the first characters
    of a column ("": there is none such), ``key_expression`` the expression of one, from the core's
    notation; where ``keys_tell_kinds``, an index on an expression of decimals is not searched for
    a whole number, nor one of whole numbers for a decimal.

    ``settings`` tells whether a session's settings can change how it plans, ``setting_example`` is
    one as a user gives it; ``setting_tried`` and
    ``setting_back`` are for one session, ``setting_kept`` makes one last, and ``setting_undone``
    takes that back. ``times`` tells whether days and moments have types of their own, and
    ``like_tells_case`` whether LIKE tells letters apart as = does. Memory has units but where it is
    told ``memory_in_bytes``, and a number stands without quotes where these would make it none
    (``bare_numbers``). ``analyze`` gathers statistics, ``analyze_needed`` those of every table that
    the server itself finds in need of them ("": none does); ``statistics`` are the words of a user
    who says of what, and how many (None: nobody can). ``freed`` is what takes old versions of rows
    away, ``compacted`` what writes a table anew without them, ``rebuilt_online`` what builds an
    index anew while others write ("": there is no such thing).
    """

    parser: str = DIALECT
    default_schema: str = ""
    online: str = ""
    online_behind: str = ""
    online_costs: str = ""
    online_drop: str = ""
    expression_behind: str = ""
    methods: frozenset[str] = frozenset(IndexMethod)
    includes: bool = True
    most_key_bytes: int = 0
    script_head: str = ""
    parted: PartedBuild | None = None
    after_build: str = ""
    settings: bool = True
    setting_example: str = "NAME=VALUE"
    setting_tried: str = "SET {name} = {value}"
    setting_back: str = "RESET {name}"
    memory_in_bytes: bool = False
    bare_numbers: bool = False
    analyze: str = "ANALYZE {table}"
    analyze_needed: str = ""
    freed: str = ""
    compacted: str = ""
    rebuilt_online: str = ""
    statistics: StatisticsWords | None = None
    setting_kept: str = "ALTER ROLE CURRENT_USER SET {name} = {value}"
    setting_undone: str = "ALTER ROLE CURRENT_USER RESET {name}"
    quoting: Quoting = Quoting()  # noqa: RUF009
    readable: Callable[[str], str] = str
    index_of_table: bool = False
    nulls_lowest: bool = False
    beginning: str = ""
    key_expression: Callable[[str], str] = str
    keys_tell_kinds: bool = False
    times: bool = True
    like_tells_case: bool = True

    def setting_value(self, value: str) -> str:
        """A setting's value as it is written."""
        if self.bare_numbers and _NUMBER.fullmatch(value):
            return value
        return "'" + value.replace("'", "''") + "'"

    def waits_alone(self, statement: str) -> bool:
        """Whether a statement drops an index such that nobody queues behind it while it waits."""
        return bool(self.online) and statement.startswith(f"DROP INDEX {self.online} ")

    @property
    def builds_online(self) -> bool:
        """Whether an index can be built while others write."""
        return bool(self.online or self.online_behind)


def analyzing(table: TableName, dialect: Dialect) -> str:
    """The statement that gathers statistics of a table."""
    return dialect.analyze.format(table=table_identifier(table, dialect.quoting))


# The notation of plans, which is near to the standard.
STANDARD = Dialect()
