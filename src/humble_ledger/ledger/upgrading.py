"""Bringing a ledger's tables to the version this program knows."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from sqlalchemy import Connection, inspect, text

if TYPE_CHECKING:
    from alembic.config import Config

# The newest migration; a test holds it against the folder of versions. With it in the code
# an up-to-date ledger opens without loading Alembic.
NEWEST = "0009"
FOLDER = Path(__file__).parent / "migrations"


def version_of(connection: Connection) -> str | None:
    """The version of the tables, None when there are none."""
    if not inspect(connection).has_table("alembic_version"):
        return None
    row = connection.execute(text("SELECT version_num FROM alembic_version")).first()
    return str(row[0]) if row else None


def upgrade(connection: Connection) -> None:
    """Run the migrations that are missing, inside the caller's transaction."""
    from alembic import command  # noqa: PLC0415 - slow to import and rarely needed

    command.upgrade(config_of(connection), "head")


def stamp(connection: Connection) -> None:
    """Say of tables that were just made that they are the newest version's."""
    from alembic import command  # noqa: PLC0415

    command.stamp(config_of(connection), "head")


def config_of(connection: Connection) -> Config:
    """What Alembic needs to know to act on a ledger's tables."""
    from alembic.config import Config  # noqa: PLC0415

    config = Config()
    config.set_main_option("script_location", str(FOLDER))
    config.attributes["connection"] = connection
    return config
