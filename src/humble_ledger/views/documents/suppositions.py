"""What if: each query's cost now and under a supposition."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from msgspec import Struct

from humble_ledger.core.results.suppositions import KeptHollow, Supposition
from humble_ledger.core.routes.exploring import said
from humble_ledger.views.wording import in_words


class SupposedQueryRow(Struct, frozen=True):
    """One query: costs are the planner's estimates, plans in a few words."""

    id: str
    cost_before: float
    cost_after: float
    uses: list[str]
    plan_before: str
    plan_after: str
    same_shape: bool
    caution: str


class SupposedIndexRow(Struct, frozen=True):
    """An index that is supposed to be there."""

    definition: str
    size_bytes_predicted: int


class SuppositionDocument(Struct, frozen=True):
    """What was supposed, and what became of each query.

    ``left_out`` are pairs of a query and the reason why it could not be planned; ``cautions`` say
    what the copy lacks. ``rows`` are tables with so many times as many rows, ``statistics`` columns
    about which there would be some together.
    """

    way: str
    queries: list[SupposedQueryRow]
    indexes: list[SupposedIndexRow]
    without: list[str]
    settings: dict[str, str]
    rows: dict[str, float]
    left_out: list[tuple[str, str]]
    cautions: list[str]
    plans_asked: int
    took_ms: float
    statistics: list[str] = []
    kind: Literal["supposition"] = "supposition"
    version: Literal[1] = 1


def supposition_document(found: Supposition) -> SuppositionDocument:
    """A supposition."""
    return SuppositionDocument(
        found.way,
        [
            SupposedQueryRow(
                q.query, round(q.cost_before, 2), round(q.cost_after, 2), list(q.uses),
                said(q.before), said(q.after), q.comparison.same_shape, in_words(q.caution),
            )
            for q in found.queries
        ],
        [SupposedIndexRow(i.definition, i.size_bytes) for i in found.indexes],
        list(found.without),
        dict(found.settings),
        dict(found.rows),
        list(found.left_out),
        list(found.notes),
        found.asked,
        round(found.took_ms, 1),
        list(found.statistics),
    )  # fmt: skip


class HollowBuiltDocument(Struct, frozen=True):
    """A copy of a target that is there now; ``notes`` say what it lacks."""

    target: str
    took_ms: float
    notes: list[str]
    kind: Literal["hollow"] = "hollow"
    version: Literal[1] = 1


class HollowRow(Struct, frozen=True):
    """A copy of a target; ``disk_bytes`` are of its whole folder."""

    target: str
    made_at: str
    engine: str
    server_version: str
    folder: str
    disk_bytes: int
    notes: list[str]


class HollowsDocument(Struct, frozen=True):
    """The copies that lie on this machine."""

    hollows: list[HollowRow]
    kind: Literal["hollows"] = "hollows"
    version: Literal[1] = 1


class HollowsDroppedDocument(Struct, frozen=True):
    """How many copies were removed, and the folders that were in use."""

    dropped: int
    in_use: list[str]
    kind: Literal["hollows-dropped"] = "hollows-dropped"
    version: Literal[1] = 1


def hollows_document(found: Iterable[KeptHollow]) -> HollowsDocument:
    """The copies that lie on this machine."""
    return HollowsDocument(
        [
            HollowRow(
                h.target, h.made_at, h.engine, h.version, h.folder, h.disk_bytes, list(h.notes)
            )
            for h in found
        ]
    )
