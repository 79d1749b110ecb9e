"""Row-level security of a target as it holds for the user we are there, into a hollow.

What a user may see is a condition that the planner puts into every plan. The roles that policies
name do not exist in a hollow; so the policies that hold for this user are made for everybody
there, and only on the tables where they hold.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import psycopg
from psycopg import sql

from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.one_statement import UserCursor

# By the rule of the server: a policy holds for whoever has the rights of a role it names.
_POLICIES_SQL = """
SELECT n.nspname, c.relname, p.polname, p.polcmd::text, p.polpermissive,
       pg_get_expr(p.polqual, p.polrelid), pg_get_expr(p.polwithcheck, p.polrelid)
FROM pg_policy p JOIN pg_class c ON c.oid = p.polrelid JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE row_security_active(c.oid)
  AND EXISTS (SELECT FROM unnest(p.polroles) AS r(role)
              WHERE r.role = 0 OR pg_has_role(r.role, 'USAGE'))
ORDER BY 1, 2, 3
"""
_COMMANDS = {"r": "SELECT", "a": "INSERT", "w": "UPDATE", "d": "DELETE", "*": "ALL"}
_OF_WHO_ASKS = re.compile(r"\b(?:CURRENT_USER|SESSION_USER|CURRENT_ROLE|current_setting)\b", re.I)


@dataclass(frozen=True, slots=True)
class Policy:
    """One policy that holds for us; its conditions as the server writes them, or none."""

    schema: str
    table: str
    name: str
    command: str
    permissive: bool
    visible: str | None
    allowed: str | None


def read_policies(connection: Connection) -> tuple[Policy, ...]:
    """The policies of a target that hold for the user of this connection."""
    rows = connection.execute(_POLICIES_SQL).fetchall()
    return tuple(
        Policy(
            str(schema), str(table), str(name), str(command), bool(permissive),
            None if visible is None else str(visible), None if allowed is None else str(allowed),
        )
        for schema, table, name, command, permissive, visible, allowed in rows
    )  # fmt: skip


def guard(
    owner: Connection, guarded: Sequence[tuple[str, str]], policies: Sequence[Policy]
) -> list[str]:
    """Have these tables show their owner what the policies let him see; what that may spoil.

    ``guarded`` are tables by schema and name. Where a policy cannot be made, the table is left
    open: without its policies it would show nothing at all.
    """
    left = []
    for schema, table in guarded:
        place = sql.Identifier(schema, table)
        try:
            with owner.transaction():
                for policy in policies:
                    if (policy.schema, policy.table) == (schema, table):
                        _make(owner, place, policy)
                for change in ("ENABLE", "FORCE"):
                    owner.execute(
                        sql.SQL("ALTER TABLE {} {} ROW LEVEL SECURITY").format(
                            place, sql.SQL(change)
                        )
                    )
        except psycopg.Error:
            left.append(f"{schema}.{table}")
    notes = []
    if left:
        notes.append(f"row-level security, which holds for you on {_some(left)}, is not in it")
    asking = [
        f"{p.schema}.{p.table}" for p in policies if _OF_WHO_ASKS.search(f"{p.visible} {p.allowed}")
    ]
    if asking:
        notes.append(
            f"policies of {_some(asking)} depend on who asks: how many rows they leave is a guess"
        )
    return notes


def _make(owner: Connection, place: sql.Identifier, policy: Policy) -> None:
    text = sql.SQL("CREATE POLICY {} ON {} AS {} FOR {}").format(
        sql.Identifier(policy.name),
        place,
        sql.SQL("PERMISSIVE" if policy.permissive else "RESTRICTIVE"),
        sql.SQL(_COMMANDS[policy.command]),
    )
    written = text.as_string(None)
    if policy.visible is not None:
        written += f" USING ({policy.visible})"
    if policy.allowed is not None:
        written += f" WITH CHECK ({policy.allowed})"
    # The conditions are a stranger's words: one statement, whatever they are.
    with UserCursor(owner) as cursor:
        cursor.execute(written.encode())


def _some(names: Sequence[str]) -> str:
    return ", ".join(dict.fromkeys(names[:3]))
