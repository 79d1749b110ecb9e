"""Parts of a capture that were gathered apart, put together as if one had gathered all.

Sums, spreads and the slowest runs come out the same. Which of a query's runs are kept as examples
depends on how many came before, so each part tells the number of every run it kept: the first are
kept, of the later ones a fair sample, as `gathering` does.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from humble_ledger.core.statements.fingerprint import Normalised
from humble_ledger.core.workload.gathering import Gathering, Harvest, Period, RunSeen
from humble_ledger.core.workload.incidents import Incident
from humble_ledger.core.workload.origins import Origin, Sent
from humble_ledger.core.workload.repetition import Repetition
from humble_ledger.core.workload.tags import TagSums


@dataclass(slots=True)
class Part:
    """What was gathered of one log; groups are numbered within it.

    ``numbers`` tell of each run in ``runs`` the how-manieth of its query it was, negative when it
    was kept for being slow alone.
    """

    groups: list[Normalised]
    periods: list[Period] = field(default_factory=list)
    runs: list[RunSeen] = field(default_factory=list)
    numbers: list[int] = field(default_factory=list)
    incidents: list[tuple[int | None, Incident]] = field(default_factory=list)
    sent: list[tuple[int, Origin, Sent]] = field(default_factory=list)
    tags: list[tuple[int, str, str, TagSums]] = field(default_factory=list)
    repetition: list[tuple[int, Repetition]] = field(default_factory=list)


def part_of(gathering: Gathering) -> Part:
    """All that a gathering which numbers its runs has; nothing comes after it."""
    found = gathering.harvest(ended=True)
    return Part(
        list(found.groups),
        found.periods,
        found.runs,
        gathering.numbers(),
        found.incidents,
        [(group, origin, sent) for (group, origin), sent in found.sent.items()],
        [(group, name, value, sums) for (group, name, value), sums in found.tags.items()],
        list(gathering.repetition.finish().items()),
    )


def take_in(whole: Gathering, part: Part) -> tuple[Harvest, list[int]]:
    """The harvest of a part for the whole, which learns of it, and its groups as numbered there."""
    group = [whole.groups.add(each) for each in part.groups]
    runs = [
        _moved(run, group[run.group])
        for run, number in zip(part.runs, part.numbers, strict=True)
        if whole.keeps_also(group[run.group], run.duration_ms, number)
    ]
    calls: dict[int, int] = {}
    for period in part.periods:
        period.group = group[period.group]
        calls[period.group] = calls.get(period.group, 0) + period.usage.calls
    for number, many in calls.items():
        whole.counted_also(number, many)
    for number, origin, sent in part.sent:
        whole.origins.add(group[number], origin, sent)
    for number, name, value, sums in part.tags:
        whole.tags.add(group[number], name, value, sums)
    for number, repetition in part.repetition:
        whole.repetition.add(group[number], repetition)
    incidents = [
        (None if number is None else group[number], incident) for number, incident in part.incidents
    ]
    sent_here, tags_here = whole.origins.harvest(ended=False), whole.tags.harvest()
    return Harvest(whole.groups.all, part.periods, runs, incidents, sent_here, tags_here), group


def _moved(run: RunSeen, group: int) -> RunSeen:
    return RunSeen(
        group, run.wording, run.literals, run.values, run.client, run.session, run.started_s,
        run.duration_ms, run.rows,
    )  # fmt: skip
