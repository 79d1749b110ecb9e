"""A remedy as a pair of migration scripts: forwards, and back again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from humble_ledger.core.remedies.model import IndexDesign

# Online builds wait for old transactions, so only waiting for the lock is limited.
_GUARDS = "SET lock_timeout = '2s';\nSET statement_timeout = 0;\n"
_NOTE = "-- Run outside a transaction: an online build cannot be part of one.\n"


@dataclass(frozen=True, slots=True)
class Migration:
    """Two scripts, each runnable as it stands, and a name for their files."""

    name: str
    forward: str
    backward: str

    @staticmethod
    def joined(parts: Sequence[Migration], comments: Sequence[str]) -> Migration:
        """Several changes as one pair of scripts, with comments on top; undone in reverse."""
        head = "".join(f"-- {line}\n" for comment in comments for line in comment.splitlines())
        head += _NOTE + _GUARDS
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
    )
