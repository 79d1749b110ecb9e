"""What a server says of a step beside the common figures, in a few words each.

The names are the server's own, kept in `Node.details`; a server that does not use a name
simply has nothing to say there.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.saying import percent

Figure = Callable[[float], str]
# A process that had so many times its fair part of the rows worked while others waited.
SKEWED = 1.5


def remarks(node: Node, figure: Figure, measured: bool) -> Iterator[str]:
    """Remarks on one step; ``figure`` writes a count for people."""
    details = node.details
    if details.get("Disabled") is True:
        yield "a method switched off by a setting: nothing else would do"
    yield from _partitions(node, figure, measured)
    lossy = number_of(details.get("Lossy Heap Blocks"))
    if lossy:
        exact = number_of(details.get("Exact Heap Blocks"))
        yield f"{figure(lossy)} of {figure(lossy + exact)} pages noted only as a whole (lossy)"
    hits, misses = (number_of(details.get(f"Cache {name}")) for name in ("Hits", "Misses"))
    if hits or misses:
        yield f"{figure(hits)} of {figure(hits + misses)} lookups answered from memory"
    fetched = number_of(details.get("Heap Fetches"))
    if fetched:
        yield f"had to look into the table for {figure(fetched)} rows all the same"
    share = busiest_share(node)
    if share is not None:
        processes = len(node.processes.each) + 1 if node.processes else 1
        if share * processes >= SKEWED:
            yield f"skewed: one of {processes} processes had {percent(share)} of the rows"


def busiest_share(node: Node) -> float | None:
    """The largest part of a parallel step's rows that one process had, from 0 to 1.

    None when the server does not tell of each process, or no rows came. What the workers did
    not have is the leader's.
    """
    if node.processes is None or not node.processes.each or not node.parallel_aware:
        return None
    if node.rows_seen is None or not node.loops:
        return None
    whole = node.rows_seen * node.loops
    each = [
        number_of(worker.get("Actual Rows")) * number_of(worker.get("Actual Loops"))
        for worker in node.processes.each
    ]
    if whole <= 0:
        return None
    return min(1.0, max(*each, whole - sum(each)) / whole)


def _partitions(node: Node, figure: Figure, measured: bool) -> Iterator[str]:
    if node.operation is not Operation.APPEND:
        return
    removed = number_of(node.details.get("Subplans Removed"))
    if removed:
        yield f"{figure(removed)} inputs ruled out (pruned) before it began"
    if measured:
        idle = sum(1 for child in node.children if child.never_ran)
        if idle and idle < len(node.children):
            yield f"{figure(idle)} of {figure(len(node.children))} inputs never ran (pruned)"


def number_of(value: object) -> float:
    """A figure among a server's own words; 0 where it says none."""
    return float(value) if isinstance(value, int | float) and value is not True else 0.0
