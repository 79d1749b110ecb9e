"""Work beside the reading: planning, compiling, triggers, workers, sub-queries, functions."""

from __future__ import annotations

from humble_ledger.views.numbers import Numbers
from humble_ledger.views.wording.parts import counted, tense


def planning_outweighs_running(n: Numbers, *, planning_ms: float, running_ms: float) -> str:
    return f"planning took {n.fixed(planning_ms, 1)} ms, running {n.fixed(running_ms, 1)} ms"


def many_ways_to_plan(n: Numbers, *, tables: int) -> str:
    return (
        f"the planner compares the ways to read {tables} tables or partitions each time; a "
        "prepared statement can keep one plan, and fewer partitions or joins leave fewer ways"
    )


def much_to_weigh(n: Numbers) -> str:
    return (
        "the statement reads no more than one table, so that long lists of values, many indexes, "
        "many partitions that are left out, or functions called while planning remain; the first "
        "planning of a session reads the catalogue, too"
    )


def jit_overhead(n: Numbers, *, compiling_ms: float, running_ms: float) -> str:
    return f"{n.fixed(compiling_ms, 1)} ms of {n.fixed(running_ms, 1)} ms went to JIT compilation"


def high_estimate_triggers_jit(
    n: Numbers, *, cost: float, limit: float | None, setting: str
) -> str:
    above = "" if limit is None else f" of {n.whole(limit)}"
    return (
        f"the estimated cost of {n.whole(cost)} is above the limit{above} ({setting}), and the "
        "work was done sooner than the compiling pays for"
    )


def triggers_take_time(
    n: Numbers, *, trigger: str, took_ms: float, running_ms: float, calls: float
) -> str:
    return (
        f"{trigger} took {n.fixed(took_ms, 1)} ms of {n.fixed(running_ms, 1)} ms in "
        f"{counted(n, calls, 'call')}"
    )


def work_behind_the_change(n: Numbers, *, each_ms: float) -> str:
    return (
        f"{n.fixed(each_ms, 3)} ms for each row; a foreign key looks into the other table each "
        "time, which reads all of it when its columns have no index"
    )


def workers_not_launched(n: Numbers, *, launched: float, planned: int) -> str:
    return f"{n.whole(launched)} of {planned} planned parallel workers were launched"


def no_worker_free(n: Numbers, *, limit: float | None, setting: str, processes: int) -> str:
    told = "" if limit is None else f" ({setting} is {n.whole(limit)})"
    return (
        f"no worker slots were free{told}: the plan was made for {processes} processes, and "
        "without them another might have been better"
    )


def parallel_overhead(n: Numbers, *, processes: float, work_ms: float, elapsed_ms: float) -> str:
    return (
        f"{n.whole(processes)} processes worked {n.fixed(work_ms, 1)} ms together, and it took "
        f"{n.fixed(elapsed_ms, 1)} ms"
    )


def little_to_share(n: Numbers, *, rows: float, took_ms: float, work_ms: float) -> str:
    return (
        f"starting workers and passing {n.whole(rows)} rows between processes took "
        f"{n.fixed(took_ms, 1)} ms; one process alone would have needed little more than "
        f"{n.fixed(work_ms, 1)} ms"
    )


def uneven_parallel_workers(n: Numbers, *, processes: float, share: float, rows: float) -> str:
    return (
        f"one of {n.whole(processes)} processes had {n.share(share)} of {n.whole(rows)} rows, and "
        "the others waited"
    )


def uneven_work(n: Numbers, *, processes: float, share: float) -> str:
    return (
        f"only {n.share(share)} of the time of all {n.whole(processes)} processes was used: the "
        "work lies in one part that is not divided further, such as one partition of many"
    )


def subquery_runs_again(n: Numbers, *, measured: bool, name: str, runs: float, step: int) -> str:
    return (
        f"{name or 'a sub-query'} {tense(measured, 'ran', 'run')} {n.whole(runs)} times, once for "
        f"each row of step {step}"
    )


def each_time_anew(n: Numbers, *, scanned: str | None) -> str:
    joined = "one join that groups all of it first would read its tables once"
    if scanned:
        return f"each time it reads all of {scanned}; an index there, or {joined}"
    return f"it depends on the row outside; {joined}"


def result_looked_through_again(
    n: Numbers, *, rows: float, limit_bytes: float, setting: str
) -> str:
    return (
        f"its {n.whole(rows)} rows (estimated) are the same each time, but looked through row by "
        f"row: the planner takes them for too many to hash within {n.mebibytes(limit_bytes)} "
        f"({setting}); NOT EXISTS or a join compares by a hash or an index"
    )


def volatile_filter(
    n: Numbers, *, measured: bool, function: str, tested: float, kept: float
) -> str:
    return (
        f"{tense(measured, 'calls', 'call')} {function}() for each of {n.whole(tested)} rows to "
        f"keep {n.whole(kept)}"
    )


def volatile_function(n: Numbers, *, function: str, condition: str) -> str:
    return (
        f'{function} is declared VOLATILE, so "{condition}" can neither be searched for nor '
        "computed once; if it always gives the same answer within a statement, declare it STABLE, "
        "else compute it once in a sub-query"
    )


def random_order(n: Numbers, *, measured: bool, rows: float, function: str) -> str:
    return (
        f"{tense(measured, 'gives', 'give')} each of {n.whole(rows)} rows a value by "
        f"{function}() and sorts by it, to keep a few"
    )


def order_by_chance(n: Numbers) -> str:
    return (
        "no index has this order; TABLESAMPLE reads a part of the pages, and random keys "
        "can be looked up one by one"
    )
