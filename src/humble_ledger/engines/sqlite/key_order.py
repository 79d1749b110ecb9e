"""Tables whose rows lie in the wrong order for their searches: rowid against WITHOUT ROWID.

100,000 joins by a text key of 9 bytes, in the cache, fastest of five runs: rows in the order of
the key took 0.41 of the time of rows in the order of their rowids where a row had 35 bytes, 0.70
with 115, 0.78 with 215, but 1.22 with 415 and 1.73 with 815 (their tree is deeper, as its inner
pages hold whole rows).
"""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import Message, phrase
from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.schema.facts import ClusteredFacts, IndexFacts, TableFacts
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.engines.sqlite.costs import LOOKUP
from humble_ledger.engines.sqlite.schema import ROWID

SHORT_ROW = 1 / 20  # of a page: what SQLite's manual advises
LONG_ROW = 1 / 10  # of a page: from here on the other order is faster
GAINED = 0.5  # of a step's time, about: between a fifth and seven tenths
FEWEST_LOOKUPS = 1_000.0  # of a run, below which it is not worth a word


def unclustered_key(case: Case) -> Iterable[Symptom]:
    """`unclustered-primary-key`: each search by the key walks a second tree to a short row."""
    for node in case.plan.nodes():
        table = _searched_often(case, node)
        if table is None or node.operation is not Operation.INDEX_SCAN:
            continue
        key = _key_apart(table)
        if (
            key is None
            or node.index != key.name
            or _row_bytes(table) > table.page_bytes * SHORT_ROW
        ):
            continue
        columns = ", ".join(key.key_columns)
        yield _symptom(
            case,
            node,
            table,
            "unclustered-primary-key",
            phrase(
                "each search of {table} by its primary key ({columns}) reads two b-trees: the "
                "key's, then the rows'",
                table=node.relation,
                columns=columns,
            ),
            Cause(
                "rows-by-rowid",
                phrase(
                    "rows are short, {bytes:whole} bytes (estimated from a sample): recreated "
                    "WITHOUT ROWID, the table keeps them in key order and stores the key once; its "
                    "other indexes then hold the key instead of the rowid",
                    bytes=_row_bytes(table),
                ),
            ),
        )


def long_rows_by_key(case: Case) -> Iterable[Symptom]:
    """`long-rows-clustered`: a table WITHOUT ROWID whose inner pages are full of long rows."""
    for node in case.plan.nodes():
        table = _searched_often(case, node)
        if table is None or not isinstance(table.storage, ClusteredFacts) or not table.storage.by:
            continue
        key = next((index for index in table.indexes if index.primary), None)
        if key is None or key.name == ROWID or node.index != key.name:
            continue
        if _row_bytes(table) < table.page_bytes * LONG_ROW:
            continue
        yield _symptom(
            case,
            node,
            table,
            "long-rows-clustered",
            phrase(
                "{table} keeps rows of {bytes:whole} bytes (estimated from a sample) in the "
                "b-tree of its primary key, where few fit on a page",
                table=node.relation,
                bytes=_row_bytes(table),
            ),
            Cause(
                "without-rowid",
                phrase(
                    "the table is WITHOUT ROWID, which suits rows of up to a twentieth of a page "
                    "({bytes:whole} bytes): recreated with rowids, its key gets a small b-tree of "
                    "its own",
                    bytes=table.page_bytes * SHORT_ROW,
                ),
            ),
        )


def _searched_often(case: Case, node: Node) -> TableFacts | None:
    """The table of a step, if a run searches it so often that it counts."""
    account = case.accounts[node.no]
    searched = node.operation in (Operation.INDEX_SCAN, Operation.INDEX_ONLY_SCAN)
    often = account.self_cost >= FEWEST_LOOKUPS * LOOKUP and account.self_share >= WORTH_A_WORD
    return case.table_of(node) if searched and often and node.conditions.search else None


def _key_apart(table: TableFacts) -> IndexFacts | None:
    """The index of a primary key beside rows that lie by their hidden numbers."""
    if not isinstance(table.storage, ClusteredFacts) or table.storage.by:
        return None
    return next((i for i in table.indexes if i.primary and i.name != ROWID), None)


def _row_bytes(table: TableFacts) -> float:
    return float(sum((column.mean_width_bytes or 0) + 1 for column in table.columns.values()))


def _symptom(
    case: Case, node: Node, table: TableFacts, name: str, summary: Message, cause: Cause
) -> Symptom:
    cost_ms, share = case.avoidable(node, GAINED)
    return Symptom(
        name=name,
        node=node.no,
        step=node.name,
        summary=summary,
        evidence={"row_bytes_estimated": _row_bytes(table), "table_pages": table.pages},
        cause=cause,
        cost_ms=cost_ms,
        cost_share=share,
        covers=(node.no,),
    )
