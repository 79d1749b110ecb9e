"""What sharing needs: who did it, notes, tags, and which entries came from another ledger."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add columns and tables."""
    for name, length in (("person", 80), ("machine", 120)):
        op.add_column(
            "events", sa.Column(name, sa.String(length), nullable=False, server_default="")
        )
    op.create_table(
        "notes",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("at", sa.String(32), nullable=False),
        sa.Column("subject", sa.String(20), nullable=False),
        sa.Column("text", sa.Text, nullable=False),
        sa.Column("person", sa.String(80), nullable=False),
        sa.Column("machine", sa.String(120), nullable=False),
        sqlite_autoincrement=True,
    )
    op.create_index("ix_notes_subject", "notes", ["subject"])
    op.create_table(
        "tags",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("query_id", sa.Integer, sa.ForeignKey("queries.id"), nullable=False),
        sa.Column("capture_id", sa.Integer, sa.ForeignKey("captures.id"), nullable=False),
        sa.Column("name", sa.String(80), nullable=False),
        sa.Column("value", sa.String(200), nullable=False),
        sa.Column("calls", sa.Integer, nullable=False),
        sa.Column("total_ms", sa.Float, nullable=False),
        sa.Column("squares_ms2", sa.Float, nullable=False),
        sa.Column("max_ms", sa.Float, nullable=False),
        sqlite_autoincrement=True,
    )
    for column in ("query_id", "capture_id", "name"):
        op.create_index(f"ix_tags_{column}", "tags", [column])
    op.create_table(
        "imported",
        sa.Column("uid", sa.String(40), primary_key=True),
        sa.Column("kind", sa.String(1), primary_key=True),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("here", sa.Integer, nullable=False),
    )
    op.create_index("ix_imported_here", "imported", ["kind", "here"])


def downgrade() -> None:
    """Take them away again."""
    for name in ("imported", "tags", "notes"):
        op.drop_table(name)
    for name in ("machine", "person"):
        op.drop_column("events", name)
