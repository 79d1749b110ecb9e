"""Why no index leads to the rows of a condition."""

from __future__ import annotations

from humble_ledger.views.numbers import Numbers
from humble_ledger.views.wording.parts import listed


def one_plan_for_all_values(n: Numbers, *, condition: str, expected: float, seen: float) -> str:
    return (
        f'a prepared statement keeps one plan for all values: "{condition}" was expected to keep '
        f"{n.whole(expected)} rows, and {n.whole(seen)} came; planned anew for each value "
        "(plan_cache_mode = force_custom_plan, for its role or function) it could run another way"
    )


def not_searchable(n: Numbers, *, condition: str) -> str:
    return f'no index can find rows by "{condition}"'


def no_search_by_btree(n: Numbers, *, condition: str) -> str:
    return f'no b-tree can find rows by "{condition}"'


def no_search_by_regular_expression(n: Numbers, *, condition: str) -> str:
    return (
        f'no index leads to rows by the regular expression in "{condition}"; LIKE with the same '
        "beginning would be found"
    )


def no_search_by_patterns(n: Numbers, *, condition: str) -> str:
    return (
        f'no b-tree is searched by a list of patterns as in "{condition}"; each asked for by a '
        "LIKE of its own (OR), those with a known beginning would be found"
    )


def indexes_not_known(n: Numbers, *, table: str, condition: str) -> str:
    return (
        f"the indexes of {table} are not known without its server; one that serves "
        f'"{condition}" would avoid the scan'
    )


def clock_in_expression(n: Numbers, *, condition: str, column: str, index: str | None) -> str:
    serves = f"; then {index} serves" if index else ""
    return (
        f'"{condition}" uses the present time in the expression on {column}, so not even an index '
        f"on the expression could serve; with {column} alone on its side one can{serves}"
    )


def function_not_immutable(n: Numbers, *, function: str, condition: str) -> str:
    return (
        f'{function} is declared VOLATILE, so "{condition}" must be tested row by row; if it '
        "always gives the same answer for the same row, declare it IMMUTABLE, and an index on the "
        "expression can serve"
    )


def value_not_stable(n: Numbers, *, function: str, condition: str) -> str:
    return (
        f'{function}() may give another value for each row, so "{condition}" is tested row by '
        "row; computed once beforehand (a sub-query, a parameter) it could be searched for"
    )


def column_converted(
    n: Numbers, *, index: str | None, column: str, condition: str, by_text: bool = False
) -> str:
    how = (
        "the statement itself converts the column"
        if by_text
        else "the column is converted to the type of the value"
    )
    return f'{_unusable(index, column)}{how} in "{condition}"'


def column_inside(
    n: Numbers, *, index: str | None, column: str, arithmetic: bool, condition: str
) -> str:
    what = "stands inside arithmetic" if arithmetic else "is inside a function"
    subject = "it" if index else column
    return f'{_unusable(index, column)}{subject} {what} in "{condition}"'


def columns_computed(n: Numbers, *, columns: list[str], condition: str) -> str:
    return (
        f'"{condition}" is computed from {listed(columns, " and ")}: only an index on that very '
        "expression could lead to the rows"
    )


def _unusable(index: str | None, column: str) -> str:
    return f"{index} on {column} cannot be used: " if index else ""


def no_inverted_index(n: Numbers, *, condition: str, column: str) -> str:
    return (
        f'"{condition}" looks inside {column}: no inverted index on it is there that could lead '
        "to the rows"
    )


def null_safe_comparison(n: Numbers, *, column: str) -> str:
    return (
        "no index is searched by IS NOT DISTINCT FROM; for a value that is not NULL "
        f"{column} = the value means the same, and an index can serve it"
    )


def no_index_of_shapes(n: Numbers, *, of: str, method: str, condition: str) -> str:
    return f'no index on the shapes of {of} ({method}) could find the rows by "{condition}"'


def shape_converted(n: Numbers, *, index: str | None, of: str, expression: str) -> str:
    told = f"{index} on {of}" if index else f"an index on {of}"
    return (
        f'{told} cannot be used: "{expression}" is computed of every row; asked of {of} itself, '
        "it could be searched for"
    )


def negation(n: Numbers, *, index: str | None, condition: str) -> str:
    return (
        f'{index or "an index"} leads to rows that match, not to all others: "{condition}" asks '
        "for the rest; an index on just those rows (WHERE the same condition) could serve"
    )


def case_insensitive_match(n: Numbers, *, condition: str, column: str) -> str:
    return (
        f'"{condition}" ignores case, and a b-tree on {column} is sorted by it; an index on '
        f"lower({column}) serves a comparison with lower({column})"
    )


def leading_wildcard(n: Numbers, *, condition: str, regular: bool) -> str:
    what = "is not anchored at the beginning" if regular else "begins with a wildcard"
    return f'the pattern in "{condition}" {what}; a b-tree finds only known prefixes'


def sorted_for_no_patterns(
    n: Numbers, *, index: str, collation: str, operator_class: str = ""
) -> str:
    with_ = f'with {operator_class} or collation "C"' if operator_class else "sorted by bytes"
    return (
        f"{index} is sorted by the collation {collation}, patterns by bytes: it takes an index "
        f"{with_}"
    )


def sorted_by_another_rule(
    n: Numbers, *, index: str, operator_class: str, collation: str, condition: str
) -> str:
    by = operator_class or f"collation {collation}"
    return f'{index} is sorted by {by}, and "{condition}" compares by another rule'


def partial_index_misses(n: Numbers, *, index: str, condition: str) -> str:
    return f"{index} holds only rows WHERE {condition}, and the query does not ask for just these"


def not_the_leading_column(n: Numbers, *, index: str, column: str) -> str:
    return f"{index} has {column}, but not as its leading column"


def only_later_columns_searched(n: Numbers, *, index: str, first: str, searched: list[str]) -> str:
    return f"{index} begins with {first}, and only {listed(searched)} behind it is searched for"


def no_index(n: Numbers, *, table: str, column: str) -> str:
    return f"no index of {table} begins with {column}"


def or_over_columns(n: Numbers, *, columns: list[str], without: list[str]) -> str:
    return (
        f"a row may match by {listed(columns, ' or ')}: each needs an index of its own; none "
        f"begins with {listed(without, ' or ')}; or ask for each apart and join the results "
        "(UNION)"
    )


def holds_and_not_used(n: Numbers, *, index: str, column: str) -> str:
    return f"{index} holds {column}, but the planner did not use it"


def finds_and_not_used(n: Numbers, *, index: str) -> str:
    return f"{index} could find the rows, but the planner did not use it"


def leads_and_not_used(n: Numbers, *, index: str, column: str) -> str:
    return f"{index} leads to {column}, but the planner did not use it"


def serve_together_and_not_used(n: Numbers, *, indexes: list[str]) -> str:
    return f"{listed(indexes, ' and ')} could serve together, but the planner did not use them"
