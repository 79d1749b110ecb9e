"""All that the ledger knows of one query, put together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from humble_ledger.core.entries import RunEntry
from humble_ledger.core.results.queries import QueryFindings, ValueColumn
from humble_ledger.core.workload.ranking import RankedQuery
from humble_ledger.core.workload.values import (
    FEWEST_RUNS,
    Place,
    SlowValue,
    ValuedRun,
    places_of,
    slow_values,
)
from humble_ledger.core.workload.windows import RunChoice
from humble_ledger.ledger.ids import Kind
from humble_ledger.workflow.workspace import Workspace

MOST_SHOWN = 20


def query_findings(workspace: Workspace, id_: str) -> QueryFindings:
    """Everything of a query: runs, values, spread, plans, waits, incidents, symptoms.

    Figures are from one kind of source: the query's last capture's.

    Raises:
        WrongUsage: the ledger has no such query.
    """
    ledger = workspace.ledger
    ledger.queries.row(Kind.QUERY, id_)
    captures = [c for c in ledger.captures.all() if c.kept]
    ranked, source = None, ""
    for source in dict.fromkeys(c.source for c in reversed(captures)):
        (query,) = ledger.queries.all(id_, RunChoice(source=source))
        if query.seen:
            share = query.usage.total_ms / (ledger.queries.whole_ms(source) or 1.0)
            ranked = RankedQuery(query, share, share)
            break
    if ranked is None:
        ranked = RankedQuery(ledger.queries.all(id_)[0], 0.0, 0.0)
    runs = ledger.queries.runs(id_)
    columns, slow = _values(runs), slow_places(runs)
    everything = ledger.queries.all(id_)[0]
    return QueryFindings(
        ranked=replace(ranked, query=replace(ranked.query, sources=everything.sources)),
        source=source,
        runs=tuple(runs[:MOST_SHOWN]),
        kept_runs=len(runs),
        columns=columns,
        slow_values=slow,
        over_time=tuple(ledger.queries.periods(id_, source)),
        plans=tuple(ledger.plans.of_query(id_, origin="read") + ledger.plans.of_query(id_, "log")),
        symptoms=tuple(ledger.symptoms.of_query(id_)),
        waits=tuple(ledger.captures.waits(query=id_)),
        incidents=tuple(ledger.captures.incidents(query=id_)),
        senders=tuple(ledger.senders.of(query=id_, source=source)),
    )


def slow_places(
    runs: Sequence[RunEntry], fewest_runs: int = FEWEST_RUNS
) -> tuple[tuple[str, SlowValue], ...]:
    """The values that go with slow runs, each with the name of its place, the slowest first.

    Places are those of the commonest wording; runs of another wording count only where they
    have as many values.
    """
    names, valued = _valued(runs)
    comparable = (
        ValuedRun(run.duration_ms, values)
        for run, values in valued
        if run.duration_ms is not None and len(values) == len(names)
    )
    found = slow_values(comparable, fewest_runs)
    return tuple((names[each.place], each) for each in found)


def _valued(
    runs: Sequence[RunEntry],
) -> tuple[list[str], list[tuple[RunEntry, list[str | None]]]]:
    """The names of the places of the first run, and each run with its values."""
    known: dict[str, list[Place]] = {}
    valued: list[tuple[RunEntry, list[str | None]]] = []
    for run in runs:
        if run.wording not in known:
            known[run.wording] = places_of(run.wording)
        places = known[run.wording]
        valued.append((run, [p.value(run.literals, run.parameters) for p in places]))
    return [place.name for place in known[runs[0].wording]] if runs else [], valued


def _values(runs: Sequence[RunEntry]) -> tuple[ValueColumn, ...]:
    """The values of the slowest runs by place."""
    names, valued = _valued(runs)
    return tuple(
        ValueColumn(name, tuple(v[n] if n < len(v) else None for _, v in valued[:MOST_SHOWN]))
        for n, name in enumerate(names)
    )
