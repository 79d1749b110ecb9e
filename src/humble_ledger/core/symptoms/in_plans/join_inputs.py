"""`join-side-without-index`: a whole table is read to find matches for a few rows."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from humble_ledger.core.costs.model import Search
from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import JOINS, Node, Operation, Role
from humble_ledger.core.plans.paths import all_given
from humble_ledger.core.plans.tables import alias_of
from humble_ledger.core.schema.enclosing import holding, sought
from humble_ledger.core.schema.facts import HOLDS_ROWS, TableFacts
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.conditions import (
    ColumnRef,
    Predicate,
    PredicateKind,
    Wrapping,
    columns_of,
    predicates,
)
from humble_ledger.core.statements.parting import halves
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.model import Cause, Symptom

CLEARLY_CHEAPER = 0.5
MOSTLY_UNMATCHED = 0.5  # of the rows read: joined ones and those that look for partners
_PASSING = (
    Operation.HASH, Operation.SORT, Operation.INCREMENTAL_SORT, Operation.MATERIALIZE,
    Operation.GATHER,
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Side:
    """The side of a join that is read whole: its steps, its scan, the column that joins it.

    ``reason`` tells why no index leads to it, None if none begins with the column; ``index_waits``
    that one does, and the join hides the column from it.
    """

    steps: tuple[Node, ...]
    scan: Node
    table: TableFacts
    column: str
    reason: Cause | None
    index_waits: bool
    partners: float


def sides_without_index(case: Case) -> Iterable[Symptom]:
    """`join-side-without-index`."""
    for join in case.plan.nodes():
        if join.operation not in JOINS or join.never_ran:
            continue
        for found in _sides(case, join):
            lookups, scan = _prices(case, found)
            covers = tuple(step.no for step in found.steps)
            now = scan
            compared_in_loop = found.reason and join.operation is Operation.NESTED_LOOP
            if found.index_waits or compared_in_loop:
                # Unconverted it would be another join: what that of today costs goes, too.
                covers = (join.no, *covers)
                now += case.accounts[join.no].self_cost
            elif _is_for(case, join, found):
                covers = (join.no, *covers)
            if lookups >= CLEARLY_CHEAPER * now or found.table.is_small:
                continue
            cost_ms, share = case.avoidable_of(covers, 1.0 - lookups / now)
            if share < WORTH_A_WORD:
                continue
            table = found.table
            yield Symptom(
                name="join-side-without-index",
                node=found.scan.no,
                step=found.scan.name,
                summary=message(
                    "join-side-without-index",
                    measured=case.plan.steps_measured,
                    rows=table.rows,
                    table=table.name,
                    partners=found.partners,
                ),
                evidence={
                    "rows_of_the_table": table.rows,
                    "rows_to_find_partners_of": found.partners,
                    "scan_cost_estimated": round(scan, 2),
                    "lookups_cost_predicted": round(lookups, 2),
                    "column": found.column,
                },
                cause=found.reason
                or Cause(
                    "no-index",
                    message(
                        "no-index-to-join-by",
                        table=table.name,
                        column=found.column,
                        lookups=found.partners,
                        cost=lookups,
                        now=scan,
                    ),
                ),
                cost_ms=cost_ms,
                cost_share=share,
                covers=covers,
            )


def _is_for(case: Case, join: Node, found: _Side) -> bool:
    """Whether a join's own work is mostly that for rows of a side that have no partner.

    Each row read is hashed, probed or merged, so with the scan most of that goes, too.
    """
    if join.operation is Operation.NESTED_LOOP:
        return False  # it runs its inner side for each row of the other
    return case.rows(join) + found.partners <= MOSTLY_UNMATCHED * case.rows(found.scan)


def sides_without_shapes(case: Case) -> Iterable[Symptom]:
    """`join-side-without-index` where two tables meet by what lies in what.

    Without an index of shapes every row of one side is held against every row of the other.
    """
    for join in case.plan.nodes():
        if join.operation is not Operation.NESTED_LOOP or join.never_ran:
            continue
        for steps, scan, table in _whole_sides(case, join):
            wanted = _by_shape(join, scan, table)
            if wanted is None or table.is_small:
                continue
            of, condition = wanted
            covers = (join.no, *(step.no for step in steps))
            cost_ms, share = case.avoidable_of(covers, 1.0)
            if share < WORTH_A_WORD:
                continue
            yield Symptom(
                name="join-side-without-index",
                node=scan.no,
                step=scan.name,
                summary=message(
                    "all-held-against-each",
                    measured=case.plan.steps_measured,
                    rows=table.rows,
                    table=table.name,
                ),
                evidence={"rows_of_the_table": table.rows, "column": of},
                cause=Cause(
                    "no-index",
                    message(
                        "no-index-of-shapes-to-join-by",
                        of=of,
                        method=IndexMethod.ENCLOSING,
                        condition=condition,
                    ),
                ),
                cost_ms=cost_ms,
                cost_share=share,
                covers=covers,
            )
            break


def _by_shape(join: Node, scan: Node, table: TableFacts) -> tuple[str, str] | None:
    """The column that a join looks for by shapes, and the condition; None with an index on it."""
    alias = alias_of(scan)
    for each in (p for text in join.conditions.join for p in predicates(text)):
        for wanted in sought(each.sql, table, alias):
            if wanted.column and holding(table, wanted) is None:
                return wanted.of, each.sql
    return None


def _whole_sides(case: Case, join: Node) -> Iterable[tuple[tuple[Node, ...], Node, TableFacts]]:
    """The sides of a join that are tables read whole: their steps, the scan, the table."""
    for side in join.children:
        if side.role not in (Role.OUTER, Role.INNER):
            continue
        steps = [side]
        while steps[-1].operation in _PASSING and len(steps[-1].inputs) == 1:
            steps.append(steps[-1].inputs[0])
        table = case.table_of(steps[-1])
        last = steps[-1]
        # An index that holds all that is asked for may be read whole in place of its table.
        by_index = last.operation is Operation.INDEX_ONLY_SCAN and not last.conditions.search
        in_order = join.operation is Operation.MERGE_JOIN  # and then wanted in its order
        whole = last.operation is Operation.FULL_SCAN or (by_index and not in_order)
        if whole and table is not None and table.kind in HOLDS_ROWS:
            yield tuple(steps), steps[-1], table


def _sides(case: Case, join: Node) -> Iterable[_Side]:
    sides = [child for child in join.children if child.role in (Role.OUTER, Role.INNER)]
    if len(sides) != 2:
        return
    whole = {steps[0].no: (steps, scan, table) for steps, scan, table in _whole_sides(case, join)}
    for side, other in (sides, sides[::-1]):
        if all_given(join, side) or side.no not in whole:
            continue
        steps, scan, table = whole[side.no]
        found = _joining(join, scan, table)
        if found is not None:
            # Rows of an inner side that is read again and again are counted once.
            yield _Side(steps, scan, table, *found, max(_arriving(case, other), 1.0))


def _arriving(case: Case, side: Node) -> float:
    """The rows of a side that may have partners.

    A merge that comes to the end of one side takes no more from the sort of the other: what that
    handed on is not what there was.
    """
    rows = case.rows(side)
    while side.operation in _PASSING and len(side.inputs) == 1:
        side = side.inputs[0]
        rows = max(rows, case.rows(side))
    return rows


def _joining(join: Node, scan: Node, table: TableFacts) -> tuple[str, Cause | None, bool] | None:
    """The column by which a table is joined and that no index leads to; why; if one is there.

    A join that compares the column converted cannot use the index that begins with it.
    """
    alias = alias_of(scan)
    for text in (*join.conditions.join, *join.conditions.filter):
        for each in predicates(text):
            if each.kind is not PredicateKind.EQUALITY or each.partner is None:
                continue
            mine, bare = _mine(each, alias)
            if mine is None or mine.column not in table.columns:
                continue
            leading = [i for i in table.indexes if i.valid and i.key_columns[:1] == (mine.column,)]
            if not bare and leading:
                return mine.column, _hidden(leading[0].name, each), True
            if not bare and _by_expression(each, mine.column) and not _indexed(table, mine.column):
                return mine.column, _by_no_index(table, mine.column, each), False
            if bare:
                return None if leading else (mine.column, None, False)
    return _by_several(join, alias, table)


def _by_several(join: Node, alias: str, table: TableFacts) -> tuple[str, Cause, bool] | None:
    """A table joined by an expression of several of its columns, as keys that are put together.

    The column named is the one that tells most rows apart.
    """
    for each in (p for text in join.conditions.join for p in predicates(text)):
        parts = halves(each.sql)
        if parts is None or parts[1] != "=":
            continue
        for mine, other in ((parts[0], parts[2]), (parts[2], parts[0])):
            columns = list(dict.fromkeys(ref.column for ref in columns_of(mine)))
            own = {ref.alias for ref in columns_of(mine)} == {alias}
            others = {ref.alias for ref in columns_of(other)}
            if len(columns) < 2 or not own or not others or alias in others:
                continue
            if not set(columns) <= table.columns.keys() or _indexed(table, columns[0]):
                return None
            known = table.columns
            widest = max(columns, key=lambda name: known[name].distinct_values(table.rows) or 0.0)
            told = message(
                "joined-by-expression",
                column=" and ".join(columns), table=table.name, condition=each.sql,
            )  # fmt: skip
            return widest, Cause("function-on-column", told), False
    return None


def _by_no_index(table: TableFacts, column: str, each: Predicate) -> Cause:
    return Cause(
        "function-on-column",
        message("joined-by-expression", column=column, table=table.name, condition=each.sql),
    )


def _by_expression(each: Predicate, column: str) -> bool:
    """Whether a column is compared within a function, not only converted."""
    if each.column is not None and each.column.column == column:
        return each.wrapping is Wrapping.FUNCTION
    return "(" in each.value and not each.value.upper().startswith("CAST(")


def _indexed(table: TableFacts, column: str) -> bool:
    """Whether an index is on any expression of a column."""
    return any(
        column in {ref.column for ref in columns_of(key.expression)}
        for index in table.indexes
        for key in index.keys
        if key.expression
    )


def _hidden(index: str, each: Predicate) -> Cause:
    cast = "CAST(" in f"{each.expression} {each.value}".upper()
    return Cause(
        "type-mismatch" if cast else "function-on-column",
        message("join-converts-column", index=index, condition=each.sql),
    )


def _mine(each: Predicate, alias: str) -> tuple[ColumnRef | None, bool]:
    """The column of an alias in a comparison of two, and whether it stands there bare."""
    if each.column is not None and each.column.alias == alias:
        return each.column, each.wrapping is Wrapping.NONE
    partner = each.partner
    if partner is None or partner.alias != alias:
        return None, False
    bare = each.value.replace('"', "") in (f"{alias}.{partner.column}", partner.column)
    return partner, bare


def _prices(case: Case, found: _Side) -> tuple[float, float]:
    """(cost of one lookup per partner through an index, cost of reading the table whole)."""
    table, column = found.table, found.table.columns[found.column]
    distinct = column.distinct_values(table.rows) or 1.0
    share = 1.0 / max(distinct, 1.0)
    search = Search(share, share, quals=1, loops=found.partners)
    each = case.costs.index_scan(
        table, case.costs.sizes.in_order(table, [column]), search, 0.0
    ).total
    return each * found.partners, case.costs.full_scan(table)
