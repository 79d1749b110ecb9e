"""Where in an application statements come from."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the table."""
    op.create_table(
        "senders",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("query_id", sa.Integer, sa.ForeignKey("queries.id"), nullable=False),
        sa.Column("capture_id", sa.Integer, sa.ForeignKey("captures.id"), nullable=False),
        sa.Column("code", sa.Text, nullable=False),
        sa.Column("function", sa.Text, nullable=False),
        sa.Column("route", sa.Text, nullable=False),
        sa.Column("calls", sa.Integer, nullable=False),
        sa.Column("total_ms", sa.Float, nullable=False),
        sa.Column("max_ms", sa.Float, nullable=False),
        sa.Column("requests", sa.Integer, nullable=False),
        sa.Column("most_in_one", sa.Integer, nullable=False),
        sqlite_autoincrement=True,
    )
    op.create_index("ix_senders_query_id", "senders", ["query_id"])
    op.create_index("ix_senders_capture_id", "senders", ["capture_id"])


def downgrade() -> None:
    """Take it away again."""
    op.drop_table("senders")
