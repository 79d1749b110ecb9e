"""What the SQL of one kind of server looks like, as data: handed on, never looked up.

The conditions of plans are in one notation for all servers (see `core.statements.conditions`);
this is for the statements that users write, and for those that they are given.
"""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.sql_dialect import DIALECT


@dataclass(frozen=True, slots=True)
class Dialect:
    """One server's SQL.

    ``parser`` is its name for the parser of statements, ``default_schema`` the one that a table's
    name without one stands for. ``online`` is the word by which an index
    is built while others write, "" where there is none; ``methods`` are the kinds of index, and
    ``includes`` tells whether one can hold columns that are no keys. ``script_head`` begins a
    migration. ``after_build`` is run when an index was built, with its {name}. ``settings`` tells
    whether a session's settings can change how it plans.
    """

    parser: str = DIALECT
    default_schema: str = ""
    online: str = ""
    methods: frozenset[str] = frozenset(IndexMethod)
    includes: bool = True
    script_head: str = ""
    after_build: str = ""
    settings: bool = True


# The notation of plans, which is near to the standard.
STANDARD = Dialect()
