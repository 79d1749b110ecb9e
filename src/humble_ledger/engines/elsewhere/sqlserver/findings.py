"""What only SQL Server's plans tell: values planned for and run with, skewed threads, applies."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from humble_ledger.core.estimates.accuracy import origins
from humble_ledger.core.messages import message, phrase
from humble_ledger.core.plans.model import Node, Operation, Role
from humble_ledger.core.statements.conditions import predicates
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case, Rule
from humble_ledger.core.symptoms.model import Cause, Symptom

_OTHER_VALUE = re.compile(r"^(?P<name>@\w+): planned for (?P<planned>.*), run with (?P<run>.*)$")
_SEEK = "conversion affects the plan (Seek Plan): "
FEWEST_RUNS = 10.0
FEWEST_ROWS = 10_000.0
SKEWED = 1.5  # times its fair part of the rows


def planned_for_another_value(case: Case) -> Iterable[Symptom]:
    """`row-misestimate` of a statement that was planned for another value than it ran with."""
    others = [m for text in case.plan.remarks if (m := _OTHER_VALUE.match(text))]
    if not others:
        return
    told = "; ".join(m[0] for m in others)
    for error in origins(case.plan):
        node = error.node
        if node.rows_seen is None or node.rows_expected is None:
            continue
        yield Symptom(
            name="row-misestimate",
            node=node.no,
            step=node.name,
            summary=message(
                "row-misestimate",
                seen=node.rows_seen,
                expected=node.rows_expected,
                factor=error.factor,
                more=error.under,
                drives=None,
                drives_step=None,
            ),
            evidence={
                "rows_expected": node.rows_expected,
                "rows_seen": node.rows_seen,
                "factor": round(error.factor, 1),
                "loops": node.loops,
            },
            cause=Cause(
                "planned-for-another-value",
                phrase(
                    "{told}: one plan is kept for all values; planned anew for each value (OPTION "
                    "(RECOMPILE)), or for values apart, it could run another way",
                    told=told,
                ),
            ),
        )


def converted_columns(case: Case) -> Iterable[Symptom]:
    """`conversion-hides-index`: a column is converted, and no index on it can be searched."""
    for text in case.plan.remarks:
        if not text.startswith(_SEEK):
            continue
        node = _reader_of(case, text.removeprefix(_SEEK))
        if node is None:
            continue
        cost_ms, share = case.avoidable(node, 1.0)
        if share < WORTH_A_WORD:
            continue
        condition = text.removeprefix(_SEEK)
        yield Symptom(
            name="conversion-hides-index",
            node=node.no,
            step=node.name,
            summary=phrase(
                "each row's value is converted before it is compared: {condition}",
                condition=condition,
            ),
            evidence={"conversion": condition},
            cause=Cause(
                "type-mismatch",
                phrase(
                    "the value has another type than the column, and the column gives way; sent "
                    "with the column's own type, an index on it could be searched"
                ),
            ),
            cost_ms=cost_ms,
            cost_share=share,
        )


def applies(case: Case) -> Iterable[Symptom]:
    """`subquery-per-row`: the inner side of a loop condenses rows anew for each outer row."""
    for node in case.plan.nodes():
        inner = next((c for c in node.children if c.role is Role.INNER), None)
        if node.operation is not Operation.NESTED_LOOP or inner is None or inner.never_ran:
            continue
        if not node.details.get("OuterReferences") or not _condenses(inner):
            continue
        outer = next((c for c in node.children if c.role is Role.OUTER), None)
        expected = (outer.rows_expected or 1.0) if outer is not None else 1.0
        runs = inner.loops if inner.loops is not None else expected
        covers = [each.no for each in inner.walk()]
        if runs < FEWEST_RUNS:
            continue
        cost_ms, share = case.avoidable_of(covers, 1.0 - 1.0 / runs)
        if share < WORTH_A_WORD:
            continue
        scans = [n.relation for n in inner.walk() if n.operation is Operation.FULL_SCAN]
        each_time = "each time it reads all of {scanned}; " if scans else ""
        yield Symptom(
            name="subquery-per-row",
            node=inner.no,
            step=inner.name,
            summary=phrase(
                "a sub-query {verb} {runs:whole} times, once for each row of step {step}",
                verb=case.verb("ran", "would run"),
                runs=runs,
                step=outer.no if outer is not None else node.no,
            ),
            evidence={"runs": runs, "rows_of_step": outer.no if outer is not None else node.no},
            cause=Cause(
                "correlated-subquery",
                phrase(
                    each_time + "one join that groups all of it first would read its tables once",
                    scanned=scans[0] if scans else None,
                ),
            ),
            cost_ms=cost_ms,
            cost_share=share,
            covers=tuple(covers),
        )


def skewed_threads(case: Case) -> Iterable[Symptom]:
    """`uneven-parallel-workers`: one thread had most of the rows."""
    for node in case.plan.nodes():
        threads = node.processes.each if node.processes is not None else ()
        whole = sum(each.rows * each.loops for each in threads)
        if len(threads) < 2 or whole < FEWEST_ROWS or not node.relation:
            continue
        busiest = max(each.rows * each.loops for each in threads) / whole
        if busiest * len(threads) < SKEWED:
            continue
        idle = 1.0 - 1.0 / (busiest * len(threads))
        cost_ms, share = case.avoidable(node, idle)
        if share < WORTH_A_WORD:
            continue
        yield Symptom(
            name="uneven-parallel-workers",
            node=node.no,
            step=node.name,
            summary=phrase(
                "one of {threads} threads had {share:share} of {rows:whole} rows, and the "
                "others waited",
                threads=len(threads),
                share=busiest,
                rows=whole,
            ),
            evidence={"busiest_share": busiest, "processes": len(threads)},
            cause=Cause(
                "uneven-work",
                phrase(
                    "the rows were dealt out unevenly: by a range or by a value that most of them "
                    "have"
                ),
            ),
            cost_ms=cost_ms,
            cost_share=share,
        )


def _condenses(inner: Node) -> bool:
    kinds = (Operation.AGGREGATE, Operation.LIMIT)
    return any(node.operation in kinds for node in inner.walk())


def _reader_of(case: Case, conversion: str) -> Node | None:
    """The step whose conditions have this conversion, the costliest first."""
    wanted = {p.expression for p in predicates(conversion) if p.expression} | {conversion}
    wanted |= {f"{p.column.alias}.{p.column.column}" for p in predicates(conversion) if p.column}
    found = [
        node
        for node in case.plan.nodes()
        if node.relation
        and any(
            any(part.strip("()") in text for part in wanted) and "CAST(" in text
            for text in node.conditions.all()
        )
    ]
    return max(found, key=lambda n: case.accounts[n.no].self_share, default=None)


OWN_RULES: Sequence[Rule] = (
    planned_for_another_value,
    applies,
    converted_columns,
    skewed_threads,
)
