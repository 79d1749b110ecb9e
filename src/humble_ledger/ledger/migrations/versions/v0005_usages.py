"""What each query took in all, kept summed up; and the cost in its newest plan."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

from humble_ledger.ledger import usages

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the table and the column, and fill both from what the ledger has."""
    op.create_table(
        "usages",
        sa.Column("query_id", sa.Integer, sa.ForeignKey("queries.id"), primary_key=True),
        sa.Column("source", sa.String(20), primary_key=True),
        sa.Column("calls", sa.Integer, nullable=False),
        sa.Column("timed", sa.Integer, nullable=False),
        sa.Column("total_ms", sa.Float, nullable=False),
        sa.Column("squares_ms2", sa.Float, nullable=False),
        sa.Column("max_ms", sa.Float),
        sa.Column("p95_ms", sa.Float),
        sa.Column("rows", sa.Float),
        sa.Column("pages_read", sa.Float),
        sa.Column("durations", sa.Text, nullable=False),
        sa.Column("sums_only", sa.Integer, nullable=False),
        sa.Column("work", sa.JSON(none_as_null=True)),
        sa.Column("first_at", sa.String(32)),
        sa.Column("last_at", sa.String(32)),
    )
    op.create_index("ix_usages_by_time", "usages", ["source", "total_ms"])
    op.add_column("queries", sa.Column("cost", sa.Float))
    op.execute(
        "UPDATE queries SET cost = (SELECT cost FROM plans WHERE plans.query_id = queries.id "
        "ORDER BY plans.id DESC LIMIT 1)"
    )
    usages.rebuild(op.get_bind())


def downgrade() -> None:
    """Take them away again."""
    op.drop_table("usages")
    op.drop_column("queries", "cost")
