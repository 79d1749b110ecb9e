"""Full scans of all partitions of a table, seen as the one scan that they are.

Each partition has its own step and takes a small part of the time: looked at one by one, a table of
fifty partitions that is read whole would be no trouble at all.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from humble_ledger.core.plans.model import Conditions, Discarded, Node, Operation, Plan
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.schema.quoting import identifier
from humble_ledger.core.statements.parting import requalified
from humble_ledger.core.symptoms.case import Case


def with_wholes(case: Case) -> Case:
    """The case with one scan in place of those of a table's partitions, where there are some.

    It has the number of the step that gathers their rows.
    """
    tables = dict(case.tables)
    root = _folded(case.plan.root, tables)
    if root is case.plan.root:
        return case
    plan: Plan = replace(case.plan, root=root)
    return Case.of(
        plan,
        case.server,
        tables,
        case.costs,
        case.planner,
        case.statement,
        case.rules,
        case.dialect,
    )


def _folded(node: Node, tables: dict[TableName, TableFacts]) -> Node:
    children = tuple(_folded(child, tables) for child in node.children)
    if any(new is not old for new, old in zip(children, node.children, strict=True)):
        node = replace(node, children=children)
    scans = node.children
    if node.operation is not Operation.APPEND or len(scans) < 2:
        return node
    parts = list(_parts(scans, tables))
    if len(parts) != len(scans) or len({part.root for part in parts}) != 1:
        return node
    whole = _whole(parts, tables)
    tables.setdefault(whole.name, whole)
    largest = max(range(len(scans)), key=lambda place: parts[place].pages)
    return _one_scan(node, scans, scans[largest], whole)


def _parts(scans: Sequence[Node], tables: Mapping[TableName, TableFacts]) -> Iterator[TableFacts]:
    """The facts of the partitions that are read whole."""
    for scan in scans:
        facts = tables.get(TableName(scan.schema, scan.relation)) if scan.relation else None
        whole = scan.operation is Operation.FULL_SCAN and not scan.children
        if whole and facts is not None and facts.root is not None:
            yield facts


def _whole(parts: Sequence[TableFacts], tables: Mapping[TableName, TableFacts]) -> TableFacts:
    """The table that is read: as much of it as these partitions have."""
    largest = max(parts, key=lambda part: part.pages)
    assert largest.root is not None
    known = tables.get(largest.root)
    return replace(
        largest,
        name=largest.root,
        kind="table",
        rows=sum(part.rows for part in parts),
        pages=sum(part.pages for part in parts),
        size_bytes=sum(part.size_bytes for part in parts),
        columns=known.columns if known is not None and known.columns else largest.columns,
        partition_of="",
        root=None,
    )


def _alias_of_whole(scans: Sequence[Node]) -> str:
    """What the conditions above call the table."""
    found = {scan.whole_alias for scan in scans} - {""}
    return found.pop() if len(found) == 1 else ""


def _one_scan(append: Node, scans: Sequence[Node], largest: Node, whole: TableFacts) -> Node:
    """The step that gathers, as the scan of the whole; its figures have those below it in them."""
    loops = append.loops or 0.0
    thrown = [s.discarded.by_filter * s.loops for s in scans
              if s.discarded.by_filter is not None and s.loops]  # fmt: skip
    alias = _alias_of_whole(scans) or whole.name.name
    told = tuple(
        requalified(text, largest.alias, f"{identifier(alias)}.")
        for text in largest.conditions.filter
    )
    filtered = all(scan.conditions.filter for scan in scans)
    return replace(
        append,
        operation=Operation.FULL_SCAN,
        label=f"{largest.label} of {len(scans)} partitions",
        schema=whole.name.schema,
        relation=whole.name.name,
        alias=alias,
        discarded=Discarded(by_filter=sum(thrown) / loops if thrown and loops else None),
        conditions=Conditions(filter=told if filtered else ()),
        output=append.output,
        parallel_aware=append.parallel_aware or any(s.parallel_aware for s in scans),
        children=(),
    )
