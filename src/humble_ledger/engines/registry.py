"""From a URL to the engine that understands it; other packages may add engines.

An engine of another package is found through the entry point group
``humble_ledger.engines``, whose names are URL schemes.
"""

from __future__ import annotations

from importlib.metadata import entry_points

from humble_ledger.engines.contract import Engine
from humble_ledger.errors import WrongUsage

GROUP = "humble_ledger.engines"


def engine_for(url: str) -> Engine:
    """The engine for a URL; no scheme at all means PostgreSQL's own habits.

    ``postgresql://…``, ``service=name``, ``host=… dbname=…`` and the empty string (all from
    the environment) are PostgreSQL.

    Raises:
        WrongUsage: nobody understands this scheme.
    """
    scheme = url.split("://", 1)[0] if "://" in url else ""
    if scheme in ("", "postgres", "postgresql"):
        from humble_ledger.engines.postgresql.engine import PostgresEngine  # noqa: PLC0415

        return PostgresEngine()
    for entry in entry_points(group=GROUP, name=scheme):
        engine: Engine = entry.load()()
        return engine
    shown = f" that begin with {scheme}://" if scheme.isalnum() else " of this form"
    raise WrongUsage(
        f"No engine understands URLs{shown}.",
        "This version speaks to PostgreSQL:  postgresql://user@host:5432/database",
    )
