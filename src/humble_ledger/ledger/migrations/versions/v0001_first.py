"""The first tables."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def _id() -> sa.Column[int]:
    return sa.Column("id", sa.Integer, primary_key=True)


def _at() -> sa.Column[str]:
    return sa.Column("at", sa.String(32), nullable=False)


def _body(nullable: bool = False) -> sa.Column[bytes]:
    return sa.Column("body", sa.LargeBinary, nullable=nullable)


def _text(name: str, length: int = 80) -> sa.Column[str]:
    return sa.Column(name, sa.String(length), nullable=False)


def _ref(name: str, table: str, nullable: bool = False) -> sa.Column[int]:
    return sa.Column(name, sa.Integer, sa.ForeignKey(f"{table}.id"), nullable=nullable, index=True)


def _parameters() -> sa.Column[object]:
    return sa.Column("parameters", sa.JSON, nullable=False)


def upgrade() -> None:
    """Create every table."""
    op.create_table(
        "about",
        sa.Column("key", sa.String(40), primary_key=True),
        sa.Column("value", sa.Text, nullable=False),
    )
    op.create_table(
        "targets",
        _id(),
        _at(),
        sa.Column("name", sa.String(80), nullable=False, unique=True),
        sa.Column("url", sa.Text, nullable=False),
        _text("engine", 40),
        _text("version", 40),
        _text("role", 20),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "captures",
        _id(),
        _at(),
        _text("source", 20),
        sa.Column("place", sa.Text, nullable=False),
        sa.Column("first_run", sa.String(32)),
        sa.Column("last_run", sa.String(32)),
        sa.Column("kept", sa.Integer, nullable=False),
        _body(),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "queries",
        _id(),
        _at(),
        sa.Column("fingerprint", sa.String(16), nullable=False, unique=True),
        sa.Column("text", sa.Text, nullable=False),
        sa.Column("tables", sa.JSON, nullable=False),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "runs",
        _id(),
        _ref("query_id", "queries"),
        _ref("capture_id", "captures", nullable=True),
        sa.Column("started_at", sa.String(32)),
        sa.Column("duration_ms", sa.Float, nullable=False),
        sa.Column("rows", sa.Integer),
        sa.Column("statement", sa.Text, nullable=False),
        _parameters(),
        _text("user"),
        _text("database"),
        _text("application"),
        _text("session", 40),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "plans",
        _id(),
        _at(),
        _ref("query_id", "queries", nullable=True),
        sa.Column("statement", sa.Text, nullable=False),
        _parameters(),
        _text("origin", 20),
        sa.Column("measured", sa.Integer, nullable=False),
        _body(),
        sa.Column("document", sa.LargeBinary, nullable=False),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "symptoms",
        _id(),
        _at(),
        _ref("query_id", "queries", nullable=True),
        _ref("plan_id", "plans"),
        _text("name", 60),
        sa.Column("node", sa.Integer, nullable=False),
        _body(),
        sa.UniqueConstraint("plan_id", "name", "node"),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "remedies",
        _id(),
        _at(),
        _text("type", 20),
        sa.Column("change", sa.Text, nullable=False, unique=True),
        _text("status", 20),
        _body(),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "trials",
        _id(),
        _at(),
        sa.Column("target", sa.Text, nullable=False),
        _text("status", 20),
        _text("mark", 40),
        _text("process", 120),
        _body(nullable=True),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "creations",
        _id(),
        _at(),
        _ref("trial_id", "trials"),
        _text("schema"),
        _text("name"),
        sa.Column("removed_at", sa.String(32)),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "settlements",
        _id(),
        _at(),
        _ref("trial_id", "trials"),
        _text("decision", 10),
        sa.Column("reason", sa.Text, nullable=False),
        sa.Column("files", sa.JSON, nullable=False),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "events",
        _id(),
        _at(),
        _text("subject", 20),
        sa.Column("words", sa.Text, nullable=False),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "positions",
        _id(),
        sa.Column("path", sa.Text, nullable=False),
        _text("head", 16),
        sa.Column("head_bytes", sa.Integer, nullable=False),
        sa.Column("offset", sa.Integer, nullable=False),
        sqlite_autoincrement=True,
    )


def downgrade() -> None:
    """There is nothing before the first version."""
    raise NotImplementedError
