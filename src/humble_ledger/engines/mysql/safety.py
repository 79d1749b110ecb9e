"""What a statement may do beside reading tables, and whether a change of it can be undone."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

from humble_ledger.core.statements.side_effects import SideEffect, SideEffectReason
from humble_ledger.core.statements.tokens import TokenKind, meaningful
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.errors import HumbleError, RefusedForSafety

# Functions that act outside of a transaction: locks that outlast it, files, waiting, numbers that
# are used up, and what a plug-in may have brought.
_ACTING = frozenset(
    """get_lock release_lock release_all_locks is_used_lock sleep benchmark load_file
    master_pos_wait master_gtid_wait source_pos_wait wait_for_executed_gtid_set
    wait_until_sql_thread_after_gtids nextval setval sys_exec sys_eval sys_set
    group_replication_switch_to_single_primary_mode asynchronous_connection_failover_add_source
    """.split()
)
TRANSACTIONAL = frozenset(("innodb", "rocksdb", "tokudb", "ndbcluster"))


def effects_of(connection: Connection, plain: str) -> Sequence[SideEffect]:
    """What a statement calls that acts outside; ``plain`` is by the standard's lexical rules."""
    called = _called(plain)
    found = [
        SideEffect(name, SideEffectReason.VOLATILE, reaches=name)
        for name in sorted(called & _ACTING)
    ]
    if _next_value_for(plain):
        found.append(SideEffect("nextval", SideEffectReason.VOLATILE, reaches="nextval"))
    names = sorted(called - _ACTING)
    if not names:
        return found
    marks = ", ".join(["%s"] * len(names))
    try:
        rows = connection.asked(
            "SELECT ROUTINE_SCHEMA, ROUTINE_NAME, SQL_DATA_ACCESS FROM information_schema.ROUTINES "
            f"WHERE ROUTINE_TYPE = 'FUNCTION' AND LOWER(ROUTINE_NAME) IN ({marks})",
            *names,
        )
        loaded = connection.asked(
            f"SELECT name FROM mysql.func WHERE LOWER(name) IN ({marks})",
            *names,
        )
    except HumbleError:
        rows, loaded = (), ()
    found += [
        SideEffect(f"{schema}.{name}", SideEffectReason.VOLATILE)
        for schema, name, access in rows
        if str(access) in ("MODIFIES SQL DATA", "CONTAINS SQL", "READS SQL DATA")
    ]
    found += [
        SideEffect(str(row[0]), SideEffectReason.OPAQUE, language="a library") for row in loaded
    ]
    return found


def _called(plain: str) -> frozenset[str]:
    """Names in front of a bracket, in small letters."""
    kept = meaningful(plain)
    return frozenset(
        token.text.strip('"').lower()
        for token, behind in pairwise(kept)
        if token.kind in (TokenKind.WORD, TokenKind.QUOTED) and behind.text == "("
    )


def _next_value_for(plain: str) -> bool:
    words = [t.text.lower() for t in meaningful(plain)]
    return any(words[n : n + 3] == ["next", "value", "for"] for n in range(len(words)))


def require_undoable(connection: Connection, plain: str) -> None:
    """Make sure that what a statement changes can be rolled back.

    Raises:
        RefusedForSafety: it writes a table whose engine keeps no transactions.
    """
    names = {
        t.text.strip('"').lower()
        for t in meaningful(plain)
        if t.kind in (TokenKind.WORD, TokenKind.QUOTED)
    }
    rows = connection.rows(
        "SELECT TABLE_SCHEMA, TABLE_NAME, ENGINE FROM information_schema.TABLES "
        "WHERE TABLE_TYPE IN ('BASE TABLE', 'SEQUENCE') AND TABLE_SCHEMA NOT IN "
        "('information_schema', 'performance_schema', 'sys')"
    )
    for schema, name, engine in rows:
        if str(schema) == "mysql" and "mysql" not in names:
            continue  # a table of ours may have the name of one of the server's own
        if str(name).lower() in names and str(engine).lower() not in TRANSACTIONAL:
            raise RefusedForSafety(
                f"{schema}.{name} is kept by {engine}, which cannot take a change back.",
                "Statements that write are run on tables of InnoDB only; the estimated plan needs "
                "no run.",
            )
    triggers = connection.rows(
        "SELECT EVENT_OBJECT_TABLE, TRIGGER_NAME FROM information_schema.TRIGGERS "
        "WHERE TRIGGER_SCHEMA NOT IN ('mysql', 'sys')"
    )
    for table, trigger in triggers:
        if str(table).lower() in names:
            raise RefusedForSafety(
                f"Writing {table} runs the trigger {trigger}, whose doing may not be taken back.",
                "Try it on a copy without the trigger.",
            )
