"""Joins that convert an indexed column, so that its table is read whole.

A text joined to a number is compared as a number, and one of a narrower character set is converted
to the wider one (documented, "Type Conversion in Expression Evaluation", "Character Set
Introducers"): the index on the converted column cannot be searched.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from humble_ledger.core.messages import phrase
from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts
from humble_ledger.core.statements.conditions import ColumnRef, Wrapping, columns_of, predicates
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.model import Cause, Symptom


def converted_joins(case: Case) -> Iterable[Symptom]:
    """`join-side-without-index`: an index is there, and the join hides the column from it."""
    aliases = {node.alias: node for node in case.plan.nodes() if node.alias and node.relation}
    told = set()
    for converted, other in _conversions(case):
        scan, partner = aliases.get(converted.alias), aliases.get(other.alias)
        if scan is None or partner is None or not _read_whole(scan):
            continue
        table, beside = case.table_of(scan), case.table_of(partner)
        column = table.columns.get(converted.column) if table is not None else None
        against = beside.columns.get(other.column) if beside is not None else None
        if table is None or column is None or against is None or table.is_small:
            continue
        index = next((i for i in table.indexes if i.key_columns[:1] == (converted.column,)), None)
        # What is looked up for each row of the scan is done for its sake.
        covers = [scan.no, partner.no]
        cost_ms, share = case.avoidable_of(covers, 1.0)
        if index is None or share < WORTH_A_WORD or scan.no in told:
            continue
        told.add(scan.no)
        yield Symptom(
            name="join-side-without-index",
            node=scan.no,
            step=scan.name,
            summary=phrase(
                "{verb} all {rows:whole} rows of {table}, as the join converts {column}",
                verb=case.verb("reads", "would read"),
                rows=table.rows,
                table=table.name,
                column=converted.column,
            ),
            evidence={"rows_of_the_table": table.rows, "column": converted.column},
            cause=_cause(column, against, index.name, f"{beside_name(beside)}.{other.column}"),
            cost_ms=cost_ms,
            cost_share=share,
            covers=tuple(covers),
        )


def _read_whole(scan: Node) -> bool:
    """Whether all rows are read: from the table, or from an index that holds all that is asked."""
    by_index = scan.operation is Operation.INDEX_ONLY_SCAN and not scan.conditions.search
    return by_index or scan.operation is Operation.FULL_SCAN


def beside_name(table: TableFacts | None) -> str:
    """A table's name; "" for none."""
    return table.name.name if table is not None else ""


def _conversions(case: Case) -> Iterator[tuple[ColumnRef, ColumnRef]]:
    """(the converted column, what it is compared with) of every condition of the plan."""
    for node in case.plan.nodes():
        for part in (p for text in _texts(node) for p in predicates(text)):
            if part.column is None or part.partner is None:
                continue
            if part.wrapping is Wrapping.CAST:
                yield part.column, part.partner
            elif part.value.upper().startswith("CAST("):
                yield part.partner, part.column


def _texts(node: Node) -> Iterator[str]:
    for text in node.conditions.all():
        if "CAST(" in text and len({ref.alias for ref in columns_of(text)}) > 1:
            yield text


def _cause(column: ColumnFacts, other: ColumnFacts, index: str, named: str) -> Cause:
    kind, against = column.type_name, other.type_name
    if kind == against or (column.collation and other.collation):
        kind, against = column.collation, other.collation
        return Cause(
            "collation-mismatch",
            phrase(
                "{column} is {kind}, {named} is {against}: {column} is converted for each "
                "comparison, and {index} cannot be searched; one character set and collation for "
                "both",
                column=column.name,
                kind=kind,
                named=named,
                against=against,
                index=index,
            ),
        )
    return Cause(
        "type-mismatch",
        phrase(
            "{column} is {kind}, {named} is {against}: {column} is converted for each comparison, "
            "and {index} cannot be searched; one type for both",
            column=column.name,
            kind=kind,
            named=named,
            against=against,
            index=index,
        ),
    )
