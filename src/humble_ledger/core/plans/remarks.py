"""What a server says of a step beside the common figures, in a few words each.

A server that does not tell one simply has nothing to say there.
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
    met = node.visits
    yield from node.remarks
    if node.disabled:
        yield "a method switched off by a setting: nothing else would do"
    yield from _partitions(node, figure, measured)
    if met.lossy_pages:
        pages = met.lossy_pages + met.exact_pages
        yield f"{figure(met.lossy_pages)} of {figure(pages)} pages noted only as a whole (lossy)"
    if met.cache_hits or met.cache_misses:
        lookups = met.cache_hits + met.cache_misses
        yield f"{figure(met.cache_hits)} of {figure(lookups)} lookups answered from memory"
    if met.table_rows:
        yield f"had to look into the table for {figure(met.table_rows)} rows all the same"
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
    each = [worker.rows * worker.loops for worker in node.processes.each]
    if whole <= 0:
        return None
    return min(1.0, max(*each, whole - sum(each)) / whole)


def _partitions(node: Node, figure: Figure, measured: bool) -> Iterator[str]:
    if node.operation is not Operation.APPEND:
        return
    if node.visits.pruned:
        yield f"{figure(node.visits.pruned)} inputs ruled out (pruned) before it began"
    if measured:
        idle = sum(1 for child in node.children if child.never_ran)
        if idle and idle < len(node.children):
            yield f"{figure(idle)} of {figure(len(node.children))} inputs never ran (pruned)"
