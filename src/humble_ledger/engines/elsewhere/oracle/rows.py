"""One line of a plan, whichever way it was saved, and the statement around the lines."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(slots=True)
class Row:
    """A line of a plan. Figures with ``seen`` in their names are over all starts.

    ``depth`` is how far its operation is set in. ``buffers``, ``reads`` and ``writes`` are blocks,
    ``seen_ms`` milliseconds with all below. ``passes``: 0 in memory, 1 once through a temporary
    segment, 2 several times.
    """

    id: int
    depth: int
    operation: str
    name: str = ""
    owner: str = ""
    alias: str = ""
    rows: float | None = None
    row_bytes: float | None = None
    cost: float | None = None
    starts: float | None = None
    seen_rows: float | None = None
    seen_ms: float | None = None
    buffers: float | None = None
    reads: float | None = None
    writes: float | None = None
    memory_bytes: int | None = None
    passes: int | None = None
    temp_bytes: int | None = None
    partitions: tuple[str, str] = ("", "")
    distribution: str = ""
    queue: str = ""
    access: str = ""
    filter: str = ""
    more: dict[str, str] = field(default_factory=dict)


@dataclass(slots=True)
class Display:
    """All lines of one statement, and what stands around them."""

    rows: list[Row]
    statement: str = ""
    plan_hash: str = ""
    sql_id: str = ""
    notes: list[str] = field(default_factory=list)

    @property
    def measured(self) -> bool:
        """Whether it tells what happened."""
        return any(row.starts is not None and row.seen_rows is not None for row in self.rows)
