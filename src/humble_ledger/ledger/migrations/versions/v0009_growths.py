"""The newest study of each query's growth."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the table."""
    whole = sa.BigInteger().with_variant(sa.Integer(), "sqlite")
    moment = sa.String(32).with_variant(sa.Text(), "postgresql")
    op.create_table(
        "growths",
        sa.Column("id", whole, primary_key=True),
        sa.Column("at", moment, nullable=False),
        sa.Column("query_id", whole, sa.ForeignKey("queries.id"), nullable=False, unique=True),
        sa.Column("body", sa.LargeBinary, nullable=False),
        sqlite_autoincrement=True,
    )


def downgrade() -> None:
    """Take it away again."""
    op.drop_table("growths")
