"""A remedy as a pair of migration scripts: forwards, and back again."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Remedy, RemedyType
from humble_ledger.core.remedies.removal import removed_index

_WORD = re.compile(r"[a-z0-9]+")
# Online builds wait for old transactions, so only waiting for the lock is limited.
_GUARDS = "SET lock_timeout = '2s';\nSET statement_timeout = 0;\n"
_NOTE = "-- Run outside a transaction: an online build cannot be part of one.\n"


@dataclass(frozen=True, slots=True)
class Migration:
    """Two scripts, each runnable as it stands, and a name for their files."""

    name: str
    forward: str
    backward: str
    online: bool = False

    @staticmethod
    def joined(parts: Sequence[Migration], comments: Sequence[str]) -> Migration:
        """Several changes as one pair of scripts, with comments on top; undone in reverse."""
        head = "".join(f"-- {line}\n" for comment in comments for line in comment.splitlines())
        online = any(part.online for part in parts)
        head += (_NOTE if online else "") + _GUARDS
        return Migration(
            "_and_".join(part.name for part in parts)[:80],
            head + "".join(part.forward for part in parts),
            head + "".join(part.backward for part in reversed(parts)),
        )


def index_migration(design: IndexDesign, name: str) -> Migration:
    """Build an index without blocking writers, and drop it again."""
    return Migration(
        name,
        design.create_sql(name, concurrently=True) + ";\n",
        design.drop_sql(name, concurrently=True) + ";\n",
        online=True,
    )


def online_statements(remedy: Remedy) -> tuple[str, ...]:
    """What is run to make a change for good, each statement by itself and without a semicolon."""
    made = remedy.index is not None or remedy.settings or removed_index(remedy) is not None
    lines = migration_of(remedy).forward.splitlines() if made else remedy.apply
    return tuple(line.rstrip().rstrip(";") for line in lines)


def migration_of(remedy: Remedy) -> Migration:
    """The scripts of any remedy.

    A setting, tried in a session, is written for the role that runs the script: nobody else's
    queries get it.
    """
    if remedy.index is not None:
        return index_migration(remedy.index, remedy.index_name)
    if remedy.settings:
        names = "_and_".join(name for name, _ in remedy.settings)
        role = "ALTER ROLE CURRENT_USER"
        return Migration(
            names,
            "".join(f"{role} SET {name} = '{value}';\n" for name, value in remedy.settings),
            "".join(f"{role} RESET {name};\n" for name, _ in remedy.settings),
        )
    if remedy.type is RemedyType.REWRITE:
        note = "-- No change of the database: this is what the application sends from now on.\n"
        old, new = "\n".join(remedy.revert), "\n".join(remedy.apply)
        return Migration("rewrite", f"{note}{new}\n", f"{note}{old}\n")
    removed = removed_index(remedy)
    if removed is not None:
        return Migration(
            f"remove_{removed[1]}",
            f"{remedy.apply[0].replace('DROP INDEX', 'DROP INDEX CONCURRENTLY', 1)}\n",
            f"{remedy.revert[0].replace(' INDEX ', ' INDEX CONCURRENTLY ', 1)}\n",
            online=True,
        )
    name = "_".join(_WORD.findall(remedy.summary.lower()))[:60]
    back = "".join(f"{statement}\n" for statement in remedy.revert) or "-- Nothing to undo.\n"
    return Migration(name, "".join(f"{s}\n" for s in remedy.apply), back)
