"""Runs summed up in periods and kept by wording; incidents, waits, looks at statistics."""

from __future__ import annotations

import json

import sqlalchemy as sa
from alembic import op

from humble_ledger.core.workload.durations import bucket_of, pack

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def _id() -> sa.Column[int]:
    return sa.Column("id", sa.Integer, primary_key=True)


def _text(name: str, length: int = 80) -> sa.Column[str]:
    return sa.Column(name, sa.String(length), nullable=False)


def _ref(name: str, table: str, nullable: bool = False) -> sa.Column[int]:
    key = sa.ForeignKey(f"{table}.id")
    return sa.Column(name, sa.Integer, key, nullable=nullable, index=True)


def upgrade() -> None:
    """Make the new tables and carry the runs over."""
    op.rename_table("runs", "runs_before")
    for name in ("query_id", "capture_id"):
        op.drop_index(f"ix_runs_{name}", "runs_before")
    _make_tables()
    with op.batch_alter_table("symptoms", table_kwargs={"sqlite_autoincrement": True}) as batch:
        batch.alter_column("plan_id", existing_type=sa.Integer, nullable=True)
        batch.add_column(sa.Column("capture_id", sa.Integer))
        batch.create_foreign_key("capture", "captures", ["capture_id"], ["id"])
        batch.create_index("ix_symptoms_capture_id", ["capture_id"])
    op.add_column("plans", sa.Column("cost", sa.Float))
    op.add_column("positions", sa.Column("waiting", sa.LargeBinary))
    _carry_over(op.get_bind())
    op.drop_table("runs_before")


def _make_tables() -> None:
    op.create_table(
        "clients", _id(), _text("user"), _text("database"), _text("application"),
        sa.UniqueConstraint("user", "database", "application"), sqlite_autoincrement=True,
    )  # fmt: skip
    op.create_table(
        "wordings", _id(), _ref("query_id", "queries"),
        sa.Column("text", sa.Text, nullable=False), sqlite_autoincrement=True,
    )  # fmt: skip
    op.create_table(
        "runs", _id(), _ref("query_id", "queries"), _ref("capture_id", "captures", nullable=True),
        _ref("wording_id", "wordings"), _ref("client_id", "clients"),
        sa.Column("started_at", sa.String(32)), sa.Column("duration_ms", sa.Float),
        sa.Column("rows", sa.Integer), sa.Column("literals", sa.JSON, nullable=False),
        sa.Column("parameters", sa.JSON, nullable=False), _text("session", 40),
        sqlite_autoincrement=True,
    )  # fmt: skip
    op.create_table(
        "periods", _id(), _ref("query_id", "queries"), _ref("capture_id", "captures"),
        _ref("client_id", "clients"), sa.Column("first_at", sa.String(32)),
        sa.Column("last_at", sa.String(32)), sa.Column("calls", sa.Integer, nullable=False),
        sa.Column("timed", sa.Integer, nullable=False),
        sa.Column("total_ms", sa.Float, nullable=False),
        sa.Column("squares_ms2", sa.Float, nullable=False), sa.Column("max_ms", sa.Float),
        sa.Column("durations", sa.Text, nullable=False), sa.Column("work", sa.JSON),
        sqlite_autoincrement=True,
    )  # fmt: skip
    op.create_table(
        "incidents", _id(), _text("at", 32), _ref("query_id", "queries", nullable=True),
        _ref("capture_id", "captures"), _text("kind", 40), _text("session", 40),
        sa.Column("amount", sa.Float), sa.Column("detail", sa.Text, nullable=False),
        sqlite_autoincrement=True,
    )  # fmt: skip
    op.create_table(
        "counters", _id(), _ref("capture_id", "captures"),
        sa.Column("target", sa.Text, nullable=False),
        sa.Column("body", sa.LargeBinary, nullable=False), sqlite_autoincrement=True,
    )  # fmt: skip
    op.create_table(
        "waits", _id(), _ref("query_id", "queries"), _ref("capture_id", "captures"),
        _text("kind", 40), _text("event"), sa.Column("samples", sa.Integer, nullable=False),
        sa.Column("total_ms", sa.Float, nullable=False), sqlite_autoincrement=True,
    )  # fmt: skip


def _carry_over(c: sa.Connection) -> None:
    """Each old run becomes a run of its whole text, and a period of its own."""
    clients: dict[tuple[str, str, str], int] = {}
    wordings: dict[tuple[int, str], int] = {}
    for row in c.execute(sa.text("SELECT * FROM runs_before ORDER BY id")).mappings().all():
        who = (row["user"], row["database"], row["application"])
        if who not in clients:
            clients[who] = len(clients) + 1
            c.execute(
                sa.text("INSERT INTO clients VALUES (:id, :u, :d, :a)"),
                {"id": clients[who], "u": who[0], "d": who[1], "a": who[2]},
            )
        key = (row["query_id"], row["statement"])
        if key not in wordings:
            wordings[key] = len(wordings) + 1
            c.execute(
                sa.text("INSERT INTO wordings VALUES (:id, :q, :t)"),
                {"id": wordings[key], "q": key[0], "t": key[1]},
            )
        ms, started = row["duration_ms"], row["started_at"]
        values = {
            "q": row["query_id"], "k": row["capture_id"], "w": wordings[key], "c": clients[who],
            "at": started, "ms": ms, "rows": row["rows"], "p": row["parameters"] or "[]",
            "s": row["session"], "none": json.dumps([]), "sq": ms * ms,
            "counts": pack({bucket_of(ms): 1}),
        }  # fmt: skip
        c.execute(
            sa.text(
                "INSERT INTO runs (query_id, capture_id, wording_id, client_id, started_at,"
                " duration_ms, rows, literals, parameters, session)"
                " VALUES (:q, :k, :w, :c, :at, :ms, :rows, :none, :p, :s)"
            ),
            values,
        )
        if row["capture_id"] is None:
            continue
        c.execute(
            sa.text(
                "INSERT INTO periods (query_id, capture_id, client_id, first_at, last_at, calls,"
                " timed, total_ms, squares_ms2, max_ms, durations)"
                " VALUES (:q, :k, :c, :at, :at, 1, 1, :ms, :sq, :ms, :counts)"
            ),
            values,
        )
