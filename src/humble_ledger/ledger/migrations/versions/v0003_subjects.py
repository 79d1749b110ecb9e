"""Symptoms of a schema: the table, column or index they are about."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add what a symptom is about; symptoms of plans and captures have none."""
    with op.batch_alter_table("symptoms", table_kwargs={"sqlite_autoincrement": True}) as batch:
        batch.add_column(sa.Column("subject", sa.String(300), nullable=False, server_default=""))


def downgrade() -> None:
    """Take it away again."""
    with op.batch_alter_table("symptoms", table_kwargs={"sqlite_autoincrement": True}) as batch:
        batch.drop_column("subject")
