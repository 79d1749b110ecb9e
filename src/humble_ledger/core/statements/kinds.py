"""What a statement does: reads, changes data, or something that has no plan at all."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import StrEnum

from humble_ledger.core.statements.tokens import TokenKind, meaningful, split_statements
from humble_ledger.errors import RefusedForSafety, UnreadableInput


class StatementKind(StrEnum):
    """What running a statement would do."""

    READS = "reads"
    CHANGES = "changes"  # it changes or locks rows
    NO_PLAN = "no-plan"  # DDL and other commands that the planner never sees


# The first words of PostgreSQL's commands; anything else is a mistake in writing.
COMMANDS = frozenset(
    """abort alter analyze begin call checkpoint close cluster comment commit copy create
    deallocate declare delete discard do drop end execute explain fetch grant import insert
    listen load lock merge move notify prepare reassign refresh reindex release replace reset revoke
    rollback savepoint security select set show start table truncate unlisten update vacuum
    values with""".split()
)
_READS = frozenset(("select", "values", "table", "with"))
_CHANGES = frozenset(("insert", "update", "delete", "merge", "replace"))


# Most statements of a log are plain reads; these two spare them the tokens.
_PLAIN_READ = re.compile(r"\s*(?:select|values|with)\b", re.IGNORECASE)
_SUSPICIOUS = ("insert", "update", "delete", "merge", "share", "into")


@dataclass(frozen=True, slots=True)
class Statement:
    """One statement as it can be sent: text with $1 … and the values for them.

    ``values`` are the server's own text form; None stands for NULL. Without placeholders
    ``values`` is empty and the text has its literals in it.
    """

    sql: str
    values: tuple[str | None, ...] = ()


def kind_of(sql: str) -> StatementKind:
    """Tell what a statement does from its keywords.

    A function that changes data cannot be seen from here; read-only sessions guard that.
    """
    if _PLAIN_READ.match(sql) is not None:
        small = sql.lower()
        if not any(word in small for word in _SUSPICIOUS):
            return StatementKind.READS
    kept = meaningful(sql)
    first = next((t.text.lower() for t in kept if t.kind is TokenKind.WORD), "")
    if first in _CHANGES:
        return StatementKind.CHANGES
    if first not in _READS:
        return StatementKind.NO_PLAN
    words = [t.text.lower() if t.kind is TokenKind.WORD else t.text for t in kept]
    for place, word in enumerate(words):
        if word in _CHANGES and words[place - 1] in ("(", "for", "key", ")"):
            return StatementKind.CHANGES  # in a WITH, behind one, or FOR UPDATE
        if word == "share" and words[place - 1] in ("for", "key"):
            return StatementKind.CHANGES
        if word == "into" and first in ("select", "with"):
            return StatementKind.CHANGES
    return StatementKind.READS


LONGEST_STATEMENT = 1024 * 1024  # letters; nobody reads a longer one, and taking it apart is slow


def one_statement(text: str) -> str:
    """The single statement of a text, without its semicolon.

    Raises:
        UnreadableInput: there is none, more than one, or one that is too long.
    """
    if len(text) > LONGEST_STATEMENT:
        raise UnreadableInput(
            f"The text has {len(text):,} letters; a statement of at most {LONGEST_STATEMENT:,} is "
            "read.",
            "Values in their thousands are better sent as one array, or from a table.",
        )
    found = split_statements(text)
    if not found:
        raise UnreadableInput(
            "There is no statement in the text given.", "Give one SQL statement, an id, or @file."
        )
    if len(found) > 1:
        raise UnreadableInput(
            f"The text holds {len(found)} statements; one is expected: the second begins "
            f'"{shorten(found[1], 40)}".',
            "Give them one at a time.",
        )
    return found[0]


def require_plan(sql: str) -> None:
    """Refuse a statement that has no plan.

    Raises:
        UnreadableInput: it is DDL or another command that the planner never sees.
    """
    if kind_of(sql) is StatementKind.NO_PLAN:
        raise UnreadableInput(
            f'"{shorten(sql, 40)}" has no plan: only SELECT, INSERT, UPDATE, DELETE, MERGE, '
            "VALUES and WITH have one.",
            "Give the statement that is slow; to try an index use:  humble trial WHAT --index …",
        )


def require_readable_run(sql: str, allow_writes: bool) -> None:
    """Refuse to run a statement that changes data without the user's clear wish.

    Raises:
        RefusedForSafety: it changes or locks rows and ``allow_writes`` is off.
    """
    if kind_of(sql) is StatementKind.CHANGES and not allow_writes:
        raise RefusedForSafety(
            f'"{shorten(sql, 40)}" changes or locks rows, so it is not run.',
            "Add --allow-writes: it then runs in a transaction that is rolled back. The estimated "
            "plan needs no run.",
        )


def shorten(sql: str, width: int) -> str:
    """A statement on one line, cut to ``width`` characters."""
    line = " ".join(sql.split())
    return line if len(line) <= width else line[: width - 1] + "…"
