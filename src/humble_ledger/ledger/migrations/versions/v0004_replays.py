"""Replays, and what they must undo on a target."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the two tables."""
    op.create_table(
        "replays",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("at", sa.String(32), nullable=False),
        sa.Column("target", sa.Text, nullable=False),
        sa.Column("status", sa.String(20), nullable=False),
        sa.Column("mark", sa.String(40), nullable=False),
        sa.Column("process", sa.String(120), nullable=False),
        sa.Column("body", sa.LargeBinary),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "undoings",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("at", sa.String(32), nullable=False),
        sa.Column("replay_id", sa.Integer, sa.ForeignKey("replays.id"), nullable=False),
        sa.Column("statement", sa.Text, nullable=False),
        sa.Column("done_at", sa.String(32)),
        sqlite_autoincrement=True,
    )
    op.create_index("ix_undoings_replay_id", "undoings", ["replay_id"])


def downgrade() -> None:
    """Take them away again."""
    op.drop_table("undoings")
    op.drop_table("replays")
