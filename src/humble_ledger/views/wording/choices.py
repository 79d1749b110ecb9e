"""Why an index was not chosen under a budget."""

from __future__ import annotations

from humble_ledger.views.numbers import Numbers
from humble_ledger.views.wording.parts import listed


def all_together_dearer(n: Numbers, *, query: str, predicted: float, before: float) -> str:
    return (
        f"with all of these indexes {query} is predicted to cost {n.whole(predicted)} in place of "
        f"{n.whole(before)}: build them one by one, and try each with --workload"
    )


def served_by_chosen(n: Numbers, *, queries: list[str], indexes: list[str]) -> str:
    return f"{listed(queries)}: served by {listed(indexes, ' and ')}"


def no_query_clearly_cheaper(n: Numbers) -> str:
    return "it makes no query clearly cheaper"


def would_save_more(n: Numbers, *, saves: float, unit: str) -> str:
    return f"it would save {n.digits(saves)} {unit} more"


def too_little_gain(n: Numbers, *, saves: float, unit: str) -> str:
    return f"{would_save_more(n, saves=saves, unit=unit)}: too little for --least-gain"


def more_than_budget(n: Numbers, *, size_bytes: float) -> str:
    return f"alone it takes more than the budget: {n.mebibytes(size_bytes)}"


def takes_too_much(n: Numbers, *, gain: str, size_bytes: float, left_bytes: float) -> str:
    return (
        f"{gain}, but takes {n.mebibytes(size_bytes)} where {n.digits(left_bytes / 1024 / 1024)} "
        "are left; in place of others it would save less"
    )


def one_index_too_many(n: Numbers, *, gain: str) -> str:
    return f"{gain}, but as one index too many: each chosen one saves more"


def writes_grow_too_much(n: Numbers, *, gain: str, by: float) -> str:
    return f"{gain}, but make writes grow by {n.share(by)}"


def no_room_found(n: Numbers, *, gain: str) -> str:
    return f"{gain}; the search did not find room for it"


def memory_would_hold_it(n: Numbers, *, needed_bytes: float) -> str:
    return f"about {n.mebibytes(needed_bytes)} would hold it (estimated)"


def compiling_does_not_pay(n: Numbers) -> str:
    return "JIT compilation does not pay off here"


def workers_hardly_help(n: Numbers) -> str:
    return "parallel workers hardly make it quicker"


def correlated_shares_multiplied(n: Numbers) -> str:
    return "the planner multiplies the shares of correlated columns"


def expression_guessed(n: Numbers) -> str:
    return "the planner guesses what an expression gives, without statistics of its own"


def common_value_not_listed(n: Numbers, *, listed: int) -> str:
    return f"a value with many rows is not among the {n.whole(listed)} listed ones"


def tables_without_statistics(n: Numbers, *, tables: int) -> str:
    return f"{n.whole(tables)} tables are without or have old ones"
