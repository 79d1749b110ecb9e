"""Which requests, applications or whatever else statements are tagged with take the time."""

from __future__ import annotations

from humble_ledger.core.results.queries import TagRanking
from humble_ledger.core.workload.ranking import QueryRuns, RankBy, Ranking, rank
from humble_ledger.core.workload.tags import by_value
from humble_ledger.errors import WrongUsage
from humble_ledger.workflow.workspace import Workspace


def tag_ranking(
    workspace: Workspace, name: str, source: str = "", top: int | None = None
) -> TagRanking:
    """The values of a tag, the most time first; ``top`` keeps the first so many.

    Raises:
        WrongUsage: no captured statement has such a tag.
    """
    ledger = workspace.ledger
    kind = _source_with(workspace, name, source)
    values = by_value(ledger.tags.of(name, kind))
    shown = values if top is None else values[:top]
    named = {value.queries[0] for value in shown}
    total = sum(value.total_ms for value in values)
    return TagRanking(
        name,
        tuple(shown),
        kind,
        {query: ledger.queries.text(query) for query in named},
        len(values),
        sum(value.calls for value in values),
        total,
        max(ledger.queries.whole_ms(kind) - total, 0.0),
        tuple(ledger.tags.names(kind)),
    )


def ranking_where(
    workspace: Workspace, where: str, by: RankBy, source: str = "", top: int | None = None
) -> Ranking:
    """The ranking of those runs alone whose statements have a tag of this value.

    Raises:
        WrongUsage: it is no NAME=VALUE, no run has it, or such runs cannot be ranked so.
    """
    name, sign, value = where.partition("=")
    if not sign or not name:
        raise WrongUsage(f'"{where}" is no tag with its value.', "Write  --where app=checkout")
    if by not in _ABLE:
        raise WrongUsage(
            f"Runs of one tag cannot be ranked by {by.value}: only sums are kept of them.",
            f"Use one of: {', '.join(_ABLE)}",
        )
    kind = _source_with(workspace, name.lower(), source)
    found = {each.query: each.sums for each in workspace.ledger.tags.of(name.lower(), kind, value)}
    if not found:
        known = [each.value for each in by_value(workspace.ledger.tags.of(name.lower(), kind))]
        raise WrongUsage(
            f'No captured run has {name} = "{value}".', f"There are: {', '.join(known[:8])}"
        )
    queries = []
    for query, sums in found.items():
        (runs,) = workspace.ledger.queries.all(query)
        queries.append(
            QueryRuns(
                runs.id, runs.fingerprint, runs.text, sums.usage, runs.statement, runs.parameters,
                runs.applications, runs.tables, runs.sources, cost=runs.cost,
            )
        )  # fmt: skip
    ranked = rank(queries, by)
    return Ranking.of(ranked, top, by, kind, (), chosen=True, compared=())


_ABLE = (RankBy.TOTAL, RankBy.MEAN, RankBy.MAX, RankBy.CALLS)


def _source_with(workspace: Workspace, name: str, source: str) -> str:
    """The kind of source that was captured last of those that tell this tag."""
    captures = [c for c in workspace.ledger.captures.all() if c.kept]
    kinds = [source] if source else list(dict.fromkeys(c.source for c in reversed(captures)))
    names: list[str] = []
    for kind in kinds:
        there = workspace.ledger.tags.names(kind)
        if name in there:
            return kind
        names += there
    known = ", ".join(dict.fromkeys(names))
    raise WrongUsage(
        f'No captured statement has the tag "{name}".',
        f"There are: {known}"
        if known
        else "Frameworks write tags into comments: /*app='checkout'*/; see docs/guide/record.md",
    )
