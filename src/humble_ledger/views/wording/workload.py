"""How queries are sent: locks, loops, values, plans that change, where the time goes."""

from __future__ import annotations

from humble_ledger.views.numbers import Numbers
from humble_ledger.views.wording.parts import counted, listed


def first_look(n: Numbers, *, since: str | None) -> str:
    when = f" ({since})" if since else ""
    return f"first look: everything since the server began to count{when}"


def statistics_were_reset(n: Numbers, *, at: str) -> str:
    return (
        f"the statistics were reset at {at}, after the look before: what ran up to then since that "
        "look is lost"
    )


def statements_forgotten(n: Numbers, *, times: int, setting: str) -> str:
    how = f" ({setting})" if setting else ""
    return (
        f"the server made room {n.whole(times)} times by forgetting statements{how}: rare ones are "
        "missing"
    )


def counters_began_anew(n: Numbers, *, statements: int) -> str:
    which = counted(n, statements, "statement")
    return f"the counters of {which} began anew since the look before"


def looked_at_sessions(n: Numbers, *, looks: int, seconds: float, pause_ms: float) -> str:
    return (
        f"{counted(n, looks, 'look')} in {n.fixed(seconds, 1)} s, one every {n.whole(pause_ms)} "
        "ms: times are estimated from them, shorter runs are missed"
    )


def blocked_by_others(n: Numbers, *, waited_ms: float, most_ms: float, blocker: str) -> str:
    return (
        f"waited {n.whole(waited_ms)} ms for locks of others, {n.whole(most_ms)} ms of it for "
        f"{blocker}"
    )


def lock_held_by_another(n: Numbers, *, blocker: str, lock: str, idle: bool) -> str:
    left_open = " in a transaction left open while nothing ran" if idle else ""
    return (
        f"{blocker} held a lock ({lock or 'of a kind not told'}){left_open}; no plan of this query "
        "is at fault, and no index of its own would help"
    )


def blocks_others(n: Numbers, *, waited_ms: float, queries: list[str]) -> str:
    return f"others waited {n.whole(waited_ms)} ms for its locks: {listed(queries)}"


def transaction_left_open(n: Numbers) -> str:
    return "its transaction stayed open while nothing ran: commit, or do the slow work outside"


def lock_held_long(n: Numbers) -> str:
    return (
        "locks are held to the end of the transaction: the shorter it is, and the fewer rows it "
        "touches, the less others wait"
    )


def waited_for_locks(n: Numbers, *, waited_ms: float, runs: int, given_up: int) -> str:
    lost = f"; {given_up} gave up or were ended" if given_up else ""
    return f"waited {n.whole(waited_ms)} ms for locks in {n.whole(runs)} runs{lost}"


def lock_held_by(n: Numbers, *, blockers: str) -> str:
    who = blockers or "a session the log does not name by its statement"
    return f"{who} held the lock; no plan of this query is at fault"


def writes_temporary_files(
    n: Numbers, *, files: int, written_bytes: float, most_bytes: float
) -> str:
    mib = 1024 * 1024
    return (
        f"wrote {n.whole(files)} temporary files, {n.fixed(written_bytes / mib, 1)} MiB in all, "
        f"{n.fixed(most_bytes / mib, 1)} MiB at most"
    )


def some_step_spills(n: Numbers) -> str:
    return (
        "a sort or hash did not fit into its memory; its measured plan shows which step and what "
        "would have held it"
    )


def time_in_few_queries(
    n: Numbers, *, queries: list[str], share: float, whole_ms: float, others: int
) -> str:
    return (
        f"{listed(queries)} {'takes' if len(queries) == 1 else 'take'} {n.share(share)} of "
        f"{n.whole(whole_ms)} ms; the other {n.whole(others)} queries share the rest"
    )


def few_queries_weigh_most(n: Numbers, *, queries: list[str]) -> str:
    return f"what helps {listed(queries)} helps most; begin there"


def plan_flipped(
    n: Numbers, *, plan: str, at: str, before_ms: float | None, since_ms: float | None
) -> str:
    times = (
        f"{n.fixed(before_ms, 1)} ms before, {n.fixed(since_ms, 1)} ms since"
        if before_ms is not None and since_ms is not None
        else "its times are not known"
    )
    return f"runs differently since {plan} ({at}): {times}"


def another_plan_chosen(
    n: Numbers, *, before: str, since: str, plan_before: str, plan_since: str
) -> str:
    return (
        f"before: {before}; since: {since}. What changed between, humble compare {plan_before} "
        f"{plan_since} shows"
    )


def n_plus_one_queries(
    n: Numbers,
    *,
    sender: str | None,
    route: str | None,
    senders: int,
    requests: bool,
    largest: int,
    calls: int,
    bursts: int,
) -> str:
    who = counted(n, senders, "request" if requests else "session")
    together = "in a row"
    if requests:
        together = f"in one request ({route})" if route else "in one request"
    times = who if requests and bursts == senders else counted(n, bursts, "burst")
    return (
        f"{sender or who} sent it up to {n.whole(largest)} times {together}, {n.whole(calls)} "
        f"times in {times}, each time with another value"
    )


def loop_in_the_application(
    n: Numbers, *, total_ms: float, in_application: bool, seconds: float
) -> str:
    # An application measures the way to the server, too.
    where = "in the application's calls" if in_application else "on the server"
    return (
        f"{n.whole(total_ms)} ms {where}, spread over {n.digits(seconds)} s; one statement for all "
        "values (a join, or = ANY of an array) would be sent once"
    )


def asked_again_unchanged(
    n: Numbers, *, unchanged: int, calls: int, requests: bool, sender: str | None
) -> str:
    by = f"; sent by {sender}" if sender else ""
    return (
        f"{n.whole(unchanged)} of {n.whole(calls)} repetitions had values that the same "
        f"{'request' if requests else 'session'} had just asked for{by}"
    )


def answer_not_remembered(n: Numbers) -> str:
    return "the application asks again for what it has just been told; it could keep the answer"


def slow_for_some_values(
    n: Numbers,
    *,
    place: str,
    values: list[str],
    more: int,
    median_ms: float,
    others_ms: float,
    runs: int,
) -> str:
    told = listed(values) + (f" and {more} more" if more else "")
    return (
        f"with {place} = {told} it took {n.fixed(median_ms, 1)} ms, with others "
        f"{n.fixed(others_ms, 1)} ms (medians; {n.whole(runs)} runs of the former were kept)"
    )


def value_unlike_others(
    n: Numbers, *, ratio: float, rows: float | None = None, other_rows: float | None = None
) -> str:
    if rows is None:
        return f"{n.whole(ratio)} times as long; why, the plans of both would show"
    return (
        f"{n.whole(ratio)} times as long, although the planner expects about as many rows of both "
        f"({n.whole(rows)} and {n.whole(other_rows)})"
    )


def value_with_many_rows(
    n: Numbers, *, rows: float, other_rows: float, way: str, other_way: str | None
) -> str:
    expected = (
        f"the planner expects {n.whole(rows)} rows to be read with it, {n.whole(other_rows)} with "
        "another"
    )
    if other_way is None:
        return f"{expected}, and runs both the same way ({way}): one plan cannot serve all"
    return (
        f"{expected}: it runs as {way}, with another as {other_way}; a plan prepared once for all "
        "values would be wrong for one of them"
    )
