"""Remedies with their predictions."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from msgspec import Struct

from humble_ledger.core.entries import RemedyEntry
from humble_ledger.core.messages import Told
from humble_ledger.core.remedies.model import Checked
from humble_ledger.core.results.proposals import RefusedRewriting, Together
from humble_ledger.views.wording import in_words


class PredictionRow(Struct, frozen=True):
    """What a remedy should do to one query, in the server's cost units; together with the indexes
    that it ``serves_only_with`` here.
    """

    id: str
    cost_before: float
    cost_predicted: float
    way: str
    step: str
    route: str
    caution: str
    serves_only_with: list[str] = []


class CheckedRow(Struct, frozen=True):
    """A rewriting held against small databases: how many, on how many the old statement gave
    rows, conditions without which ``example`` tells the two apart, why nothing could be run.
    """

    databases: int
    with_rows: int
    missing: list[str]
    example: str
    unable: str


class RefusedRow(Struct, frozen=True):
    """A rewriting that is not proposed, as it gives another result on a small database."""

    query: str
    summary: str
    example: str


class RemedyRow(Struct, frozen=True):
    """One remedy; ``beside_index`` is an index that a rewritten statement takes."""

    id: str
    type: str
    summary: str
    reason: str
    apply: list[str]
    revert: list[str]
    queries: list[PredictionRow]
    size_bytes_predicted: int | None
    build_ms_predicted: list[float] | None
    write_overhead: dict[str, float | int | list[str] | None]
    status: str
    alternative: bool = False
    values_from: str = ""
    question: bool = False
    for_queries: list[str] = []
    checked: CheckedRow | None = None
    beside_index: str = ""


class TogetherRow(Struct, frozen=True):
    """Indexes by which a query would be clearly cheaper at once than by the best of them."""

    query: str
    remedies: list[str]
    cost_before: float
    cost_predicted: float
    way: str


class RemediesDocument(Struct, frozen=True):
    """Remedies; ``left_out`` are pairs of a query that could not be studied, and the reason,
    ``cautions`` what may make all predictions worse, ``refused`` rewritings that mean something
    else, ``together`` what several of the indexes bring a query at once.
    """

    remedies: list[RemedyRow]
    left_out: list[tuple[str, str]] = []
    cautions: list[str] = []
    refused: list[RefusedRow] = []
    stopped_early: bool = False
    together: list[TogetherRow] = []
    kind: Literal["remedies"] = "remedies"
    version: Literal[2] = 2


def remedies_document(
    entries: Iterable[RemedyEntry],
    alternatives: Iterable[RemedyEntry] = (),
    left_out: Iterable[tuple[str, str]] = (),
    cautions: Iterable[Told] = (),
    refused: Iterable[RefusedRewriting] = (),
    stopped_early: bool = False,
    together: Iterable[Together] = (),
) -> RemediesDocument:
    """Remedies, then those that could stand in place of one of them."""
    rows = [remedy_row(entry) for entry in entries]
    others = [remedy_row(entry, True) for entry in alternatives]
    not_proposed = [RefusedRow(r.query, r.summary, r.example) for r in refused]
    return RemediesDocument(
        rows + others,
        list(left_out),
        [in_words(each) for each in cautions],
        not_proposed,
        stopped_early,
        [
            TogetherRow(t.query, list(t.remedies), t.cost_before, round(t.cost_predicted, 2), t.way)
            for t in together
        ],
    )


def remedy_row(entry: RemedyEntry, alternative: bool = False) -> RemedyRow:
    """One remedy."""
    remedy = entry.remedy
    text = remedy.rewrite
    beside = text.beside if text is not None else None
    return RemedyRow(
        id=entry.id,
        type=remedy.type.value,
        summary=remedy.summary,
        reason=in_words(remedy.reason),
        apply=list(remedy.apply),
        revert=list(remedy.revert),
        queries=[
            PredictionRow(
                p.query,
                p.cost_before,
                round(p.cost_predicted, 2),
                p.way,
                p.step,
                p.route,
                p.caution,
                [design.words for design in p.beside],
            )
            for p in remedy.predictions
        ],
        size_bytes_predicted=remedy.size_bytes_predicted,
        build_ms_predicted=[round(ms, 1) for ms in remedy.build_ms] if remedy.build_ms else None,
        write_overhead={
            "inserted_rows": remedy.write_overhead.inserted_rows,
            "updated_rows": remedy.write_overhead.updated_rows,
            "in_page_share": remedy.write_overhead.in_page_share,
            "entries_written_now": round(remedy.write_overhead.entries_now),
            "entries_added": round(remedy.write_overhead.entries_added),
            "grows_by_share": round(remedy.write_overhead.grows_by, 4),
            "updates_leaving_page": list(remedy.write_overhead.ends_in_page),
        },
        status=entry.status,
        alternative=alternative,
        values_from=text.values_from if text is not None else "",
        question=remedy.question,
        checked=_checked_row(remedy.checked),
        beside_index=beside.words if beside is not None else "",
        for_queries=list(dict.fromkeys([*remedy.queries, *(p.query for p in remedy.predictions)])),
    )


def _checked_row(found: Checked | None) -> CheckedRow | None:
    if found is None:
        return None
    return CheckedRow(
        found.databases, found.with_rows, list(found.missing), found.example, found.unable
    )
