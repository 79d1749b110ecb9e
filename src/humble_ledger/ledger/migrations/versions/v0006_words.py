"""The trade's names of symptoms and causes, and of what writing costs, in what was kept before."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

NAMES = {
    "rows-looked-up-for-a-column": "missing-covering-index",
    "index-from-its-wrong-end": "leading-column-missing",
    "index-only-visits-table": "index-only-heap-fetches",
    "bitmap-too-coarse": "lossy-bitmap",
    "first-rows-of-everything": "top-n-without-index",
    "table-mostly-empty": "table-bloat",
    "rows-kept-on-disk": "materialize-spills",
    "helpers-not-started": "workers-not-launched",
    "helpers-buy-little": "parallel-overhead",
    "helpers-unevenly-loaded": "uneven-parallel-workers",
    "compiling-outweighs-running": "jit-overhead",
    "filter-by-changing-function": "volatile-filter",
    "index-walked-whole": "full-index-scan",
    "contained-index": "redundant-index",
    "repeated-index": "duplicate-index",
    "condensed-too-late": "late-aggregation",
    "sent-in-a-loop": "n-plus-one-queries",
    "sort-an-index-would-spare": "sort-without-index",
    "untied-join": "missing-join-condition",
    "wrong-end-of-index": "not-the-leading-column",
    "function-not-fixed": "function-not-immutable",
    "value-not-fixed": "value-not-stable",
    "sorted-by-another-rule": "sort-order-mismatch",
    "case-ignored": "case-insensitive-match",
    "clock-inside-the-expression": "clock-in-expression",
    "past-the-statistics": "beyond-statistics",
    "no-process-free": "no-worker-free",
    "work-not-divided": "uneven-work",
    "build-broken-off": "build-failed",
    "space-of-deleted-rows": "dead-rows",
    "pages-not-marked-visible": "pages-not-all-visible",
    "compiled-for-a-high-estimate": "high-estimate-triggers-jit",
}
_KEYS = {"upkeep": "write_overhead"}


def upgrade() -> None:
    """Rename them in columns and bodies."""
    _rename(NAMES, _KEYS)


def downgrade() -> None:
    """Give them their old names again."""
    _rename({new: old for old, new in NAMES.items()}, {new: old for old, new in _KEYS.items()})


def _rename(names: dict[str, str], keys: dict[str, str]) -> None:
    connection = op.get_bind()
    for old, new in names.items():
        connection.execute(
            sa.text("UPDATE symptoms SET name = :new WHERE name = :old"), {"old": old, "new": new}
        )
    for name in ("symptoms", "remedies", "trials"):
        table = sa.table(name, sa.column("id"), sa.column("body"))
        for number, body in connection.execute(
            sa.select(table).where(table.c.body.is_not(None))
        ).all():
            renamed = _renamed(bytes(body), names, keys)
            if renamed != body:
                changed = table.update().where(table.c.id == number).values(body=renamed)
                connection.execute(changed)


def _renamed(body: bytes, names: dict[str, str], keys: dict[str, str]) -> bytes:
    """A body with other names: they stand in it as whole texts, and nothing else looks so."""
    for old, new in names.items():
        body = body.replace(f'"{old}"'.encode(), f'"{new}"'.encode())
    for old, new in keys.items():
        body = body.replace(f'"{old}":'.encode(), f'"{new}":'.encode())
    return body
