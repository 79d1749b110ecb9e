"""The search from a statement to all that it may call: functions, and what stands behind views.

It goes from the names in the text to the catalogue, and from there on by the numbers in the
server's own trees: through views, rules, row policies, operators, casts, aggregates, columns'
defaults, checks and triggers (of statements that write), and the bodies of SQL functions.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from psycopg import sql

from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import StatementKind, kind_of
from humble_ledger.core.statements.mentions import Mentions, mentions
from humble_ledger.core.statements.side_effects import SideEffect, SideEffectReason
from humble_ledger.core.statements.tokens import TokenKind, tokens
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.side_effects.functions import Function, Functions

# Operators that words, lists and sorting stand for.
_IMPLIED_OPERATORS = frozenset(("=", "<>", "<", ">", "<=", ">=", "~~", "!~~", "~~*", "!~~*", "~"))
_TREE_NUMBERS = r":(?:funcid|opfuncid|aggfnoid|winfnoid|relid) (\d+)"

_RELATIONS_SQL = """
SELECT c.oid, n.nspname, c.relname, c.relkind, c.relrowsecurity, c.relhasrules, c.relhassubclass
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND (c.relname = ANY(%s) OR c.oid = ANY(%s))
  AND n.nspname NOT IN ('pg_catalog', 'information_schema', 'pg_toast')
"""
# The numbers in the trees of relations: of rules and policies, and of what writing runs.
_TREES_SQL = """
WITH trees AS (
    SELECT ev_class AS relation, ev_action::text AS tree FROM pg_rewrite
    WHERE ev_class = ANY(%(relations)s) AND (ev_type = '1' OR %(writes)s AND NOT %(copies)s)
    UNION ALL SELECT polrelid, concat(polqual::text, polwithcheck::text) FROM pg_policy
    WHERE polrelid = ANY(%(relations)s)
    UNION ALL SELECT d.adrelid, d.adbin::text FROM pg_attrdef d
    JOIN pg_attribute a ON a.attrelid = d.adrelid AND a.attnum = d.adnum
    WHERE d.adrelid = ANY(%(relations)s) AND %(writes)s
      AND (a.attgenerated <> '' OR %(fills)s)
    UNION ALL SELECT conrelid, conbin::text FROM pg_constraint
    WHERE conrelid = ANY(%(relations)s) AND conbin IS NOT NULL AND %(writes)s
    UNION ALL SELECT indrelid, concat(indexprs::text, indpred::text) FROM pg_index
    WHERE indrelid = ANY(%(relations)s) AND %(writes)s
)
SELECT DISTINCT relation, found[1]::oid AS number
FROM trees, regexp_matches(tree, %(numbers)s, 'g') AS found
"""
_TRIGGERS_SQL = """
SELECT tgrelid, tgfoid::oid FROM pg_trigger WHERE tgrelid = ANY(%s) AND NOT tgisinternal
"""
# Changing or deleting a row may set a default in another table, or the same.
_SETS_DEFAULT_SQL = """
SELECT 1 FROM pg_constraint
WHERE confrelid = ANY(%(relations)s) AND (confdeltype = 'd' OR confupdtype = 'd') LIMIT 1
"""
_IDENTITY_SQL = """
SELECT DISTINCT attrelid FROM pg_attribute WHERE attrelid = ANY(%s) AND attidentity <> ''
"""
_FOREIGN_SQL = """
SELECT t.ftrelid, w.fdwname FROM pg_foreign_table t
JOIN pg_foreign_server s ON s.oid = t.ftserver JOIN pg_foreign_data_wrapper w ON w.oid = s.srvfdw
WHERE t.ftrelid = ANY(%s)
"""
_PARTS_SQL = """
WITH RECURSIVE parts AS (
    SELECT inhrelid FROM pg_inherits WHERE inhparent = ANY(%s)
    UNION SELECT i.inhrelid FROM pg_inherits i JOIN parts ON i.inhparent = parts.inhrelid
)
SELECT c.oid FROM parts JOIN pg_class c ON c.oid = parts.inhrelid WHERE c.relkind = 'f'
"""
# A domain's checks run whenever a value becomes one of it.
_DOMAINS_SQL = """
SELECT t.typname, found[1]::oid FROM pg_constraint k JOIN pg_type t ON t.oid = k.contypid,
    regexp_matches(k.conbin::text, %s, 'g') AS found
WHERE k.contypid <> 0 AND k.oid >= 16384
"""
_BODY_SQL = """
SELECT p.prosrc, to_jsonb(p) ->> 'prosqlbody' FROM pg_proc p WHERE p.oid = %s
"""
_NUMBERS_SQL = "SELECT DISTINCT found[1]::oid FROM regexp_matches(%s, %s, 'g') AS found"
_TOLD_BODIES = ("sql", "plpgsql")
_DEEPEST = 20
_FILLING_WORDS = frozenset(("insert", "merge", "copy", "default"))


def _may_fill(text: str) -> bool:
    """Whether a statement may make rows, or set a column to its default."""
    return any(
        token.kind is TokenKind.WORD and token.text.lower() in _FILLING_WORDS
        for token in tokens(text)
    )


@dataclass(slots=True)
class SideEffects:
    """What statements of one database may call; asked of the catalogue, and remembered."""

    connection: Connection
    _functions: Functions | None = None
    _domains: list[tuple[str, int]] = field(default_factory=list)
    _known: dict[object, tuple[SideEffect, ...]] = field(default_factory=dict)
    _reached: dict[int, str] = field(default_factory=dict)

    def of(self, text: str, *, writes: bool = False) -> tuple[SideEffect, ...]:
        """What running this statement may do beside reading, and what the planner may call.

        With ``writes`` also what writing runs: triggers, defaults, checks.
        """
        named = mentions(text)
        writes = writes or kind_of(text) is StatementKind.CHANGES
        fills = _may_fill(text)
        key = (named, writes, fills, frozenset(o for o in self.functions.operators if o in text))
        if key not in self._known:
            search = _Search(self, writes, fills=fills)
            search.text(text, named, "")
            self._known[key] = tuple(search.found.values())
        return self._known[key]

    @property
    def functions(self) -> Functions:
        """The functions that matter here."""
        if self._functions is None:
            self._functions = Functions.read(self.connection)
            with translated():
                self._domains = list(self.connection.execute(_DOMAINS_SQL, (_TREE_NUMBERS,)))
        return self._functions

    @property
    def domains(self) -> list[tuple[str, int]]:
        """The functions that domains check their values with, by the domain's name."""
        assert self._functions is not None
        return self._domains

    def of_copies(self, table: TableName) -> tuple[SideEffect, ...]:
        """What filling a copy of a table computes: its checks, indexes and generated columns."""
        search = _Search(self, writes=True, copies=True, fills=False)
        name = sql.Identifier(table.schema, table.name).as_string(None)
        with translated():
            row = self.connection.execute("SELECT to_regclass(%s)::oid", (name,)).fetchone()
        if self.functions and row is not None and row[0] is not None:
            search.numbers([row[0]], "")
        return tuple(search.found.values())

    def reaches(self, function: Function) -> str:
        """What the body of a function was seen to call that acts outside; "" when nothing."""
        if function.oid not in self._reached:
            self._reached[function.oid] = ""  # it may call itself
            if function.language in _TOLD_BODIES:
                search = _Search(self, writes=False)
                search.body(function)
                acting = (
                    each.reaches or each.name
                    for each in search.found.values()
                    if each.reason is not SideEffectReason.OPAQUE or each.reaches
                )
                self._reached[function.oid] = next(acting, "")
        return self._reached[function.oid]


@dataclass(slots=True)
class _Search:
    """One walk through the catalogue."""

    whole: SideEffects
    writes: bool
    copies: bool = False  # which have no triggers, and whose every column is given
    fills: bool = True  # rows are made whose columns may get their defaults
    found: dict[str, SideEffect] = field(default_factory=dict)
    _seen: set[int] = field(default_factory=set)
    _relations_seen: set[int] = field(default_factory=set)
    _depth: int = 0

    def text(self, text: str, named: Mentions, through: str) -> None:
        """All that a text may call."""
        functions = self.whole.functions
        for function in functions.called(named.called):
            self.function(function, through)
        for name in named.names:
            for function in functions.by_name.get(name, ()):
                if function.of_a_row:
                    self.function(function, through)  # row.name calls name(row)
        for operator, oids in functions.operators.items():
            if operator in text or operator in _IMPLIED_OPERATORS:
                self.numbers(oids, through or f"operator {operator}")
        for oid, context, source, target in functions.casts:
            if context != "e" or source in named.names or target in named.names:
                self.numbers([oid], through or f"a cast of {source} to {target}")
        for domain, oid in self.whole.domains:
            if domain in named.names or self.writes:
                self.numbers([oid], through or f"the checks of {domain}")
        self._relations(sorted(named.names), [], through)

    def function(self, function: Function, through: str) -> None:
        """One function, and what stands behind it."""
        if function.oid in self._seen or self._depth > _DEEPEST:
            return
        self._seen.add(function.oid)
        reason = function.reason
        if reason is not None:
            planned = function.planner_may_call
            reached = self.whole.reaches(function) if planned and not function.of_server else ""
            if planned and function.of_server:
                reached = function.shown
            self.found.setdefault(
                function.shown,
                SideEffect(function.shown, reason, through, function.language, planned, reached),
            )
        if function.language == "sql" or function.oid in self.whole.functions.aggregates:
            self.body(function)

    def body(self, function: Function) -> None:
        """What a function's body calls, as far as it can be read."""
        self.fills = not self.copies
        through = function.shown
        parts = self.whole.functions.aggregates.get(function.oid)
        if parts is not None:
            self.numbers(parts, through)
            return
        self._depth += 1
        with translated():
            row = self.whole.connection.execute(_BODY_SQL, (function.oid,)).fetchone()
        if row is not None and row[1]:
            with translated():
                asked = self.whole.connection.execute(_NUMBERS_SQL, (row[1], _TREE_NUMBERS))
                numbers = [number for (number,) in asked]
            self.numbers(numbers, through)
        elif row is not None and row[0]:
            named = mentions(row[0])
            anywhere = Mentions(
                frozenset((schema or None, name) for schema, name in named.called), named.names
            )
            self.text(row[0], anywhere, through)
        self._depth -= 1

    def numbers(self, oids: Iterable[int], through: str) -> None:
        """Functions and relations by their numbers."""
        wanted = list(oids)  # a number is one of its catalogue only: it may be both
        for oid in wanted:
            function = self.whole.functions.by_oid.get(oid)
            if function is not None:
                self.function(function, through)
        relations = [oid for oid in wanted if oid not in self._relations_seen]
        if relations:
            self._relations([], relations, through)

    def _relations(self, names: list[str], oids: list[int], through: str) -> None:
        with translated():
            rows = self.whole.connection.execute(_RELATIONS_SQL, (names, oids)).fetchall()
        rows = [row for row in rows if row[0] not in self._relations_seen]
        if not rows or self._depth > _DEEPEST:
            return
        self._depth += 1
        shown = {row[0]: f"{row[1]}.{row[2]}" for row in rows}
        self._relations_seen.update(shown)
        self._foreign([r[0] for r in rows if r[3] == "f"], [r[0] for r in rows if r[6]], shown)
        treed = [
            oid for oid, _, _, kind, policies, rules, _ in rows if kind == "v" or policies or rules
        ]
        treed = list(shown) if self.writes else treed
        if any(rules for _, _, _, _, _, rules, _ in rows):
            self.fills = not self.copies  # whatever a rule puts in place of the statement
        kinds = {row[0]: "view" if row[3] == "v" else "table" for row in rows}
        for relation, number in self._numbers_of(treed):
            self.numbers([number], f"{kinds[relation]} {shown[relation]}")
        self._depth -= 1

    def _numbers_of(self, relations: list[int]) -> Iterator[tuple[int, int]]:
        if not relations:
            return
        asked = {
            "relations": relations,
            "writes": self.writes,
            "copies": self.copies,
            "numbers": _TREE_NUMBERS,
        }
        connection = self.whole.connection
        with translated():
            triggers: list[tuple[int, int]] = []
            if self.writes and not self.copies:
                triggers = connection.execute(_TRIGGERS_SQL, (relations,)).fetchall()
                sets = connection.execute(_SETS_DEFAULT_SQL, asked).fetchone()
                self.fills = self.fills or bool(triggers) or sets is not None
            rows = connection.execute(_TREES_SQL, {**asked, "fills": self.fills}).fetchall()
            if self.fills and self.writes and not self.copies:
                identity = connection.execute(_IDENTITY_SQL, (relations,)).fetchall()
                if identity:
                    self.found.setdefault(
                        "nextval", SideEffect("nextval", SideEffectReason.VOLATILE, "a default")
                    )
        yield from rows
        yield from triggers

    def _foreign(self, tables: list[int], parents: list[int], shown: dict[int, str]) -> None:
        connection = self.whole.connection
        with translated():
            if parents:
                tables = tables + [oid for (oid,) in connection.execute(_PARTS_SQL, (parents,))]
            if not tables:
                return
            for oid, wrapper in connection.execute(_FOREIGN_SQL, (tables,)):
                through = f"table {shown[oid]}" if oid in shown else "a foreign partition"
                self.found.setdefault(
                    wrapper, SideEffect(wrapper, SideEffectReason.FOREIGN, through)
                )
