"""Values for a statement's parameters, taken from the target's statistics."""

from __future__ import annotations

from humble_ledger.core.dialect import analyzing
from humble_ledger.core.estimates.typical import (
    ChosenValue,
    Frequency,
    ParameterUse,
    chosen_value,
    limit_value,
    parameter_uses,
)
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.tokens import TokenKind, tokens
from humble_ledger.engines.contract import Capability
from humble_ledger.errors import WrongUsage
from humble_ledger.workflow.workspace import Workspace


def with_values(
    workspace: Workspace, statement: Statement, asked: str
) -> tuple[Statement, tuple[ChosenValue, ...]]:
    """The statement with values for its parameters, and why these.

    ``asked`` is common, typical or rare.

    Raises:
        WrongUsage: there is no such choice, the statement has no parameters, or the
            statistics have no value for one of them.
    """
    if asked not in list(Frequency):
        raise WrongUsage(f'There are no "{asked}" values.', f"Use one of: {', '.join(Frequency)}")
    numbers = sorted(
        {
            int(token.text[1:])
            for token in tokens(statement.sql)
            if token.kind is TokenKind.PARAMETER and token.text[0] == "$"
        }
    )
    if not numbers:
        raise WrongUsage(
            "The statement has no parameters such as $1 to find values for.",
            "Leave --values out.",
        )
    able = workspace.session.support(Capability.GENERIC_EXPLAIN)
    if not able:
        raise WrongUsage(
            f"No values can be found for the parameters: {able.reason}.",
            able.remedy or "Write the values into the statement.",
        )
    bare = Statement(statement.sql)
    uses = parameter_uses(workspace.session.explain(bare).plan)
    chosen = [_chosen(workspace, n, uses, Frequency(asked)) for n in range(1, numbers[-1] + 1)]
    return Statement(statement.sql, tuple(each.value for each in chosen)), tuple(chosen)


def _chosen(
    workspace: Workspace, number: int, uses: dict[int, ParameterUse], frequency: Frequency
) -> ChosenValue:
    use = uses.get(number)
    if use is None:
        return limit_value(number)
    twins = [u for u in uses.values() if (u.table, u.column) == (use.table, use.column)]
    values = workspace.session.column_values(use.table, use.column)
    found = chosen_value(use, values, frequency, both_bounds=len(twins) > 1)
    if found is None:
        gather = analyzing(use.table, workspace.engine.dialect)
        raise WrongUsage(
            f"No statistics tell a value of {use.table}.{use.column} for ${number}.",
            f"Gather them with  {gather}  or write the values into the statement.",
        )
    return found
