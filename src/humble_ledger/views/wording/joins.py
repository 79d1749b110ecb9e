"""Joins: sides without an index, rows made in vain, conditions that come too late."""

from __future__ import annotations

from humble_ledger.views.numbers import Numbers
from humble_ledger.views.wording.parts import counted, listed, tense


def join_side_without_index(
    n: Numbers, *, measured: bool, rows: float, table: str, partners: float
) -> str:
    wanted = "1 row" if partners < 1.5 else f"{n.whole(partners)} rows"
    return (
        f"{tense(measured, 'reads', 'read')} all {n.whole(rows)} rows of {table} to find matches "
        f"for {wanted}"
    )


def all_held_against_each(n: Numbers, *, measured: bool, rows: float, table: str) -> str:
    return (
        f"{tense(measured, 'compares', 'compare')} all {n.whole(rows)} rows of {table} with each "
        "row of the other side"
    )


def no_index_to_join_by(
    n: Numbers, *, table: str, column: str, lookups: float, cost: float, now: float
) -> str:
    several = "one lookup" if lookups <= 1 else f"{n.whole(lookups)} lookups"
    return (
        f"no index of {table} begins with {column}, which joins it; {several} would cost "
        f"{n.whole(cost)} against {n.whole(now)} (predicted)"
    )


def no_index_of_shapes_to_join_by(n: Numbers, *, of: str, method: str, condition: str) -> str:
    return f"no index on the shapes of {of} ({method}) could find the rows by {condition}"


def joined_by_expression(n: Numbers, *, column: str, table: str, condition: str) -> str:
    return (
        f"it is joined by an expression of {column}, and no index of {table} is on it: {condition}"
    )


def join_converts_column(n: Numbers, *, index: str, condition: str) -> str:
    return f"{index} cannot be used: the join compares its column converted: {condition}"


def missing_join_condition(n: Numbers, *, measured: bool, made: float, groups: list[str]) -> str:
    return (
        f"{tense(measured, 'makes', 'make')} {n.whole(made)} rows of tables without a join "
        f"condition: {listed(groups, ' and ')}"
    )


def join_condition_missing(n: Numbers, *, one: list[str], other: list[str]) -> str:
    return (
        f"no condition compares a column of {listed(one, ' + ')} with one of "
        f"{listed(other, ' + ')}; if every pair is wanted, this is right"
    )


def distinct_hides_fan_out(n: Numbers, *, measured: bool, made: float, kept: float) -> str:
    return (
        f"{tense(measured, 'joins', 'join')} {n.whole(made)} rows to keep {n.whole(kept)} "
        "different ones"
    )


def join_where_a_test_would_do(n: Numbers, *, tables: list[str]) -> str:
    return (
        f"nothing of {listed(tables)} is shown: EXISTS would stop at the first match instead of "
        "making a row for each"
    )


def aggregation_after_join(n: Numbers, *, measured: bool, made: float, groups: float) -> str:
    return (
        f"{tense(measured, 'joins', 'join')} {n.whole(made)} rows one by one, then "
        f"{'condenses' if measured else 'condense'} them to {n.whole(groups)}"
    )


def aggregation_before_join(
    n: Numbers, *, measured: bool, rows: float, tables: list[str], groups: float, asked: float
) -> str:
    return (
        f"{tense(measured, 'groups', 'group')} {n.whole(rows)} rows of {listed(tables, ' and ')} "
        f"into {n.whole(groups)}, and joins them to {n.whole(asked)} rows"
    )


def early_aggregation(n: Numbers, *, keys: list[str]) -> str:
    return (
        f"the join's values of {listed(keys)} do not reach into a sub-query or view that groups: "
        "all groups are made first; LATERAL with the condition inside makes those that are asked "
        "for"
    )


def window_before_join(
    n: Numbers, *, measured: bool, rows: float, tables: list[str], asked: float
) -> str:
    return (
        f"{tense(measured, 'computes', 'compute')} a window function over {n.whole(rows)} rows of "
        f"{listed(tables, ' and ')}, of which {counted(n, asked, 'row')} of the join "
        f"{'ask' if asked > 1 else 'asks'} for a few"
    )


def early_window(n: Numbers, *, column: str) -> str:
    return (
        f"the join's values of {column} do not reach into the sub-query: the groups of all values "
        "are sorted and computed first; LATERAL with the condition inside computes those that are "
        "asked for"
    )


def late_aggregation(n: Numbers, *, summed: list[str], keys_of: list[str]) -> str:
    return (
        f"only {listed(summed)} is summed up, and all keys are of {listed(keys_of)}: grouped by "
        "the join's column first, the join would handle one row for each value of it"
    )


def filter_outside_cte(
    n: Numbers, *, measured: bool, made: float, name: str, readers: int, kept: float
) -> str:
    times = f", read {readers} times" if readers > 1 else ""
    return (
        f"{tense(measured, 'computes', 'compute')} all {n.whole(made)} rows of the CTE "
        f"{name}{times}, to keep {n.whole(kept)}"
    )


def cte_materialized(n: Numbers, *, name: str, conditions: list[str]) -> str:
    return (
        f'{name} is computed by itself, so "{listed(conditions, " and ")}" cannot lead into its '
        "tables: write the condition into it, or NOT MATERIALIZED behind its AS"
    )


def filter_outside_subquery(n: Numbers, *, measured: bool, made: float, kept: float) -> str:
    return (
        f"{tense(measured, 'makes', 'make')} all {n.whole(made)} rows of a sub-query or view, to "
        f"keep {n.whole(kept)}"
    )


def all_rows_needed(n: Numbers, *, by: str, conditions: list[str]) -> str:
    what = {"distinct": "DISTINCT", "window": "a window function", "limit": "LIMIT"}.get(by, by)
    return (
        f'{what} needs all rows, so "{listed(conditions, " and ")}" is tested behind it: write the '
        "condition inside where that means the same, or look first for the groups that can have "
        "such a row"
    )


def late_join_filter(n: Numbers, *, measured: bool, made: float, kept: float) -> str:
    return f"{tense(measured, 'joins', 'join')} {n.whole(made)} rows to keep {n.whole(kept)}"


def or_over_joined_tables(n: Numbers, *, columns: list[str]) -> str:
    return (
        f"a row may match by {listed(columns, ' or ')}, which stand in different tables: only the "
        "joined row tells, so no index can lead to it; ask for each apart and put the results "
        "together (UNION)"
    )


def deletes_look_for_references(
    n: Numbers, *, rows: float, tables: list[str], table_rows: list[float]
) -> str:
    what = "the row" if rows <= 1 else f"each of {n.whole(rows)} rows"
    through = " and in ".join(
        f"{table}, through all its {n.whole(count)} rows"
        for table, count in zip(tables, table_rows, strict=True)
    )
    return f"{what} to be deleted is looked for in {through}"


def refers_without_index(n: Numbers, *, table: str, columns: list[str], refers_to: str) -> str:
    told = listed(columns)
    return f"{table} ({told}) refers to {refers_to}, and no index begins with {told}"


def references_without_index(n: Numbers, *, references: list[str], shown: bool) -> str:
    behind = ": the plan does not show these scans, the server makes them behind it"
    return listed(references, "; ") + ("" if shown else behind)
