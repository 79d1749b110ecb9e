"""What a statement leaves open, so that two results of it may rightly differ."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.ordering import OrderAsked, order_asked, showing_its_order
from humble_ledger.core.trials.differences import Row
from humble_ledger.engines.contract import Arm
from humble_ledger.errors import HumbleError
from humble_ledger.workflow.workspace import Workspace


def order_of(workspace: Workspace, sql: str) -> OrderAsked:
    """The order that a statement asks for, with the target's columns where it says "*"."""

    def columns_of(table: str) -> Sequence[str]:
        try:
            name, _ = workspace.session.find_column(table)
        except HumbleError:
            return ()
        facts = workspace.session.tables([name]).get(name)
        columns = facts.columns.values() if facts is not None else ()
        return [each.name for each in sorted(columns, key=lambda each: each.position)]

    return order_asked(sql, workspace.engine.dialect.parser, columns_of)


def hides_ties(asked: OrderAsked) -> bool:
    """Whether a LIMIT may cut between rows that are alike in what they are ordered by, unseen."""
    return asked.limited and not asked.places


def ordering_keys(workspace: Workspace, arm: Arm, statement: Statement) -> list[Row] | None:
    """What the rows are ordered by, which the statement does not show; None where unknown."""
    sql = showing_its_order(statement.sql, workspace.engine.dialect.parser)
    if not sql:
        return None
    try:
        return list(arm.result_rows(replace(statement, sql=sql)))
    except HumbleError:
        return None
