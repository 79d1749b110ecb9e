"""Symptoms that a plan shows by itself, when its tables and its server are not known.

The core's rules hold an index against a scan by the cost formulas and the tables' facts. Here is
neither: what is said rests on the plan's own figures, and what it does not tell stays unknown.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from humble_ledger.core.messages import Message, phrase
from humble_ledger.core.plans.model import JOINS, SORTS, Node, Operation, Role
from humble_ledger.core.plans.paths import path_to
from humble_ledger.core.statements.conditions import Predicate, columns_of, predicates
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case, Rule
from humble_ledger.core.symptoms.in_plans.obstacles import (
    narrowest,
    obstacle,
    obstacle_by_plan,
)
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.engines.elsewhere.drafts import READ_EXPECTED

FEWEST_LOOKUPS = 1_000.0
FEWEST_ROWS = 1_000.0
MANY_PAGES = 10.0  # for each row that is kept
MANY_COSTS = 2.0
FEW = 0.1  # of the rows are kept, where that is known
_WHOLE = (Operation.FULL_SCAN, Operation.INDEX_ONLY_SCAN)
_HASHED = (Operation.HASH_JOIN, Operation.AGGREGATE, Operation.DISTINCT)


def whole_reads(case: Case) -> Iterable[Symptom]:
    """`selective-full-scan` of a table, or of an index from end to end, with a condition on it."""
    for node in case.plan.nodes():
        if node.operation not in _WHOLE or node.conditions.search or _judged(case, node):
            continue
        counted = node.discarded.by_filter is not None
        if node.operation is Operation.FULL_SCAN and case.plan.steps_timed and counted:
            continue  # the core's own rule looks at those
        found = [p for text in node.conditions.filter for p in predicates(text)]
        if not found or node.never_ran or _within_sub_query(case, node):
            continue
        kept, read = case.rows(node), _read(case, node)
        if read is not None and (read < FEWEST_ROWS or kept > FEW * read):
            continue
        if read is None and not _much_for_few(case, node, kept):
            continue
        cost_ms, share = case.avoidable(node, 1.0 - kept / read if read else 1.0)
        if share < WORTH_A_WORD:
            continue
        what = node.relation or node.index
        where = f"{what} by its whole index {node.index}" if node.index and node.relation else what
        yield Symptom(
            name="selective-full-scan",
            node=node.no,
            step=node.name,
            summary=phrase(
                "{verb} {read:whole} rows of {where} to keep {kept:whole}",
                verb=case.verb("reads", "would read"),
                read="all" if read is None else read,
                where=where,
                kept=kept,
            ),
            evidence={"rows_read": read, "rows_kept": kept},
            cause=_why(case, node, what, found),
            cost_ms=cost_ms,
            cost_share=share,
        )


def lookups_one_by_one(case: Case) -> Iterable[Symptom]:
    """`missing-covering-index`: rows that an index led to are fetched from the table."""
    for node in case.plan.nodes():
        if _judged(case, node) or node.never_ran or not _fetches(node):
            continue
        rows = case.rows(node)
        cost_ms, share = case.avoidable(node, 1.0)
        if rows < FEWEST_LOOKUPS or share < WORTH_A_WORD:
            continue
        given = [ref.column for text in node.output for ref in columns_of(text)]
        tested = [ref.column for text in node.conditions.filter for ref in columns_of(text)]
        wanted = list(dict.fromkeys([*given, *tested]))
        told = ", ".join(wanted[:6])
        index = _index_behind(case, node)
        yield Symptom(
            name="missing-covering-index",
            node=node.no,
            step=node.name,
            summary=phrase(
                "{verb} {rows:whole} rows of {table} one by one" + (" for {told}" if told else ""),
                verb=case.verb("fetches", "would fetch"),
                rows=rows,
                table=node.relation,
                told=told,
            ),
            evidence={"rows_fetched": rows, "columns": ", ".join(wanted), "index": index},
            cause=Cause(
                "column-not-in-index",
                phrase(
                    "{index} leads to the rows and does not hold all that is asked of them; with "
                    "{columns} in it the table need not be read",
                    index=index or "the index",
                    columns=told or "the rest",
                ),
            ),
            cost_ms=cost_ms,
            cost_share=share,
        )


def hashes_on_disk(case: Case) -> Iterable[Symptom]:
    """`hash-spills`, where the server tells that it happened and not in how many parts."""
    for node in case.plan.nodes():
        memory = node.memory
        if node.operation not in _HASHED or memory is None or not memory.spilled_bytes:
            continue
        if (memory.batches or 1) > 1 or not node.loops:
            continue
        cost_ms, share = case.avoidable(node, 1.0)
        if share < WORTH_A_WORD:
            continue
        much = "{spilled:size} of " if memory.spilled_bytes > 1 else ""
        used = memory.used_bytes
        had = "it had {used:size}" if used else "its memory did not hold it"
        yield Symptom(
            name="hash-spills",
            node=node.no,
            step=node.name,
            summary=phrase(
                "{verb} through " + much + "temporary files",
                verb="joins" if node.operation in JOINS else "groups",
                spilled=memory.spilled_bytes,
            ),
            evidence={"spilled_bytes": memory.spilled_bytes, "memory_bytes": used},
            cause=Cause(
                "memory-too-small",
                phrase(
                    had
                    + "; {less}more memory for the statement, or fewer or narrower rows before it",
                    used=used,
                    less=_expected_less(node),
                ),
            ),
            cost_ms=cost_ms,
            cost_share=share,
        )


def nothing_known_of_columns(case: Case) -> Iterable[Symptom]:
    """`column-statistics-missing`: the server says so itself."""
    for node in case.plan.nodes():
        if not node.share_unknown or _judged(case, node) or not _weighs(case, node):
            continue
        texts = (*node.conditions.filter, *node.conditions.search)
        named = list(dict.fromkeys(ref.column for text in texts for ref in columns_of(text)))
        what = f"{', '.join(named)} of {node.relation}" if named else node.relation
        yield Symptom(
            name="column-statistics-missing",
            node=node.no,
            step=node.name,
            summary=phrase("the server has no statistics of {what}, and guesses", what=what),
            evidence={"columns": ", ".join(named)},
            cause=Cause(
                "no-column-statistics",
                phrase(
                    "nothing was gathered on {what}: its rows, and the joins above, are guessed",
                    what=what,
                ),
            ),
        )


def _judged(case: Case, node: Node) -> bool:
    """Whether the core's own rules can judge a step: its table and the formulas are known."""
    return case.priced and case.table_of(node) is not None


def _why(case: Case, node: Node, what: str, found: Sequence[Predicate]) -> Cause:
    table = case.table_of(node)
    if table is None:
        return obstacle_by_plan(case, what, found)
    return obstacle(case, table, narrowest(case, node, table, found) or found[0], found)


def _within_sub_query(case: Case, node: Node) -> bool:
    """Whether a step is run again for each row of another: that is the trouble, and told so."""
    return any(each.role is Role.SUBPLAN for each in path_to(case.plan.root, node))


def _weighs(case: Case, node: Node) -> bool:
    """Whether a join rests on the guess, or the step itself takes a good part."""
    above = path_to(case.plan.root, node)[:-1]
    return case.accounts[node.no].self_share >= WORTH_A_WORD or any(
        step.operation in JOINS for step in above
    )


def _much_for_few(case: Case, node: Node, kept: float) -> bool:
    """Whether a scan costs more than fetching what it keeps one by one, a page for each row.

    By the pages that were counted; else by the server's cost, which is reckoned in such fetches
    where a server tells no more.
    """
    account = case.accounts[node.no]
    if node.loops and account.self_pages is not None:
        return account.self_pages.touched >= MANY_PAGES * max(kept, 1.0)
    return not case.plan.own_estimates and account.self_cost >= MANY_COSTS * max(kept, 1.0)


def _read(case: Case, node: Node) -> float | None:
    """The rows that a scan looked at, or is expected to; None where nobody tells."""
    if node.loops:
        thrown = node.discarded.by_filter
        if thrown is not None:
            return case.rows(node) + thrown * node.loops
        table = case.table_of(node)
        return table.rows * node.loops if table is not None and table.rows else None
    expected = node.details.get(READ_EXPECTED)
    return float(expected) if isinstance(expected, int | float) else None


def _fetches(node: Node) -> bool:
    """Whether a step fetches rows from a table by what an index gave."""
    if node.operation is Operation.ROW_LOOKUP:
        return True
    below = node.children[0].operation if len(node.children) == 1 else None
    return node.operation is Operation.INDEX_SCAN and below is Operation.BITMAP_INDEX


def _index_behind(case: Case, node: Node) -> str:
    """The index that led to the rows: below the step, or beside it in the loop."""
    if node.index and node.operation is Operation.INDEX_SCAN:
        return node.index
    for below in node.walk():
        if below.index and below is not node:
            return below.index
    above = path_to(case.plan.root, node)
    for parent in reversed(above[:-1]):
        if parent.operation is Operation.NESTED_LOOP:
            outer = [c for c in parent.children if c.role is Role.OUTER]
            found = [n.index for c in outer for n in c.walk() if n.index]
            same = [n.index for c in outer for n in c.walk() if n.relation == node.relation]
            return next((i for i in same if i), found[-1] if found else "")
        if parent.operation not in SORTS:
            break
    return ""


def _expected_less(node: Node) -> Message | str:
    if node.rows_expected is None or node.rows_seen is None:
        return ""
    if node.rows_seen < 2 * max(node.rows_expected, 1.0):
        return ""
    share = node.rows_expected / max(node.rows_seen, 1.0)
    return phrase("only {share:share} of its rows were expected; ", share=share)


RULES: Sequence[Rule] = (
    whole_reads,
    lookups_one_by_one,
    hashes_on_disk,
    nothing_known_of_columns,
)
