"""Findings that only SQLite's plans have; see `core.symptoms.case.Rule`."""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import phrase
from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.statements.conditions import columns_of
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case, Rule
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.engines.sqlite.key_order import long_rows_by_key, unclustered_key
from humble_ledger.engines.sqlite.plans.reads import AUTOMATIC

FEWEST_ROWS = 100.0  # indexed anew for each run, below which it is not worth a word


def built_each_run(case: Case) -> Iterable[Symptom]:
    """`index-built-each-run`: an index is made for one run and thrown away after it."""
    for join in case.plan.nodes():
        for built in join.children:
            if built.operation is not Operation.HASH or not built.label.startswith(AUTOMATIC):
                continue
            scan = next((n for n in built.walk() if n.relation), None)
            covers = [node.no for node in built.walk()]
            cost_ms, share = case.avoidable_of(covers, 1.0)
            if scan is None or share < WORTH_A_WORD or case.rows(built) < FEWEST_ROWS:
                continue
            columns = _columns(join, scan)
            yield Symptom(
                name="index-built-each-run",
                node=built.no,
                step=built.name,
                summary=phrase(
                    "each run reads all {rows:whole} rows of {table} into an index of its own, "
                    "which is thrown away after it",
                    rows=case.rows(scan),
                    table=scan.relation,
                ),
                evidence={"rows_expected": case.rows(built), "columns": ", ".join(columns)},
                cause=_cause(case, scan, columns),
                cost_ms=cost_ms,
                cost_share=share,
                covers=tuple(covers),
            )


def _columns(join: Node, scan: Node) -> list[str]:
    alias = scan.alias or scan.relation
    found = [ref.column for text in join.conditions.join for ref in columns_of(text)
             if ref.alias == alias]  # fmt: skip
    return list(dict.fromkeys(found))


def _cause(case: Case, scan: Node, columns: list[str]) -> Cause:
    table = case.table_of(scan)
    wanted = " and ".join(columns) or "what it is searched by"
    leading = [
        index
        for index in (table.indexes if table is not None else ())
        if columns and index.key_columns[:1] == (columns[0],)
    ]
    if leading and table is not None and table.gathered is False:
        return Cause(
            "never-analyzed",
            phrase(
                "{index} begins with {column}, and the planner does not know how well it serves: "
                "ANALYZE tells it",
                index=leading[0].name,
                column=columns[0],
            ),
        )
    if leading:
        return Cause(
            "index-not-chosen",
            phrase(
                "{index} begins with {column}, and was not taken",
                index=leading[0].name,
                column=columns[0],
            ),
        )
    return Cause(
        "no-index",
        phrase(
            "no index of {relation} begins with {wanted}", relation=scan.relation, wanted=wanted
        ),
    )


RULES: tuple[Rule, ...] = (built_each_run, unclustered_key, long_rows_by_key)
