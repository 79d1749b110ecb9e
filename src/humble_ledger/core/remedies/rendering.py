"""A remedy's operation in the words of one server: as people read it, and as a trial does it."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.dialect import Dialect, analyzing
from humble_ledger.core.remedies.design import drop_index_sql
from humble_ledger.core.remedies.operations import (
    Analyze,
    CreateIndex,
    CreateStatistics,
    Custom,
    DropIndex,
    Operation,
    RewriteStatement,
    SetSettings,
    SetStatisticsTarget,
)
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.schema.quoting import identifier, table_identifier


@dataclass(frozen=True, slots=True)
class Statements:
    """The statements that do something, and those that undo it, each with its semicolon."""

    forward: tuple[str, ...]
    backward: tuple[str, ...] = ()


def rendered(operation: Operation, dialect: Dialect) -> Statements:
    """An operation as statements for one session, each runnable as it stands."""
    forward, backward = _parts(operation, dialect)
    return Statements(tuple(f"{s};" for s in forward), tuple(f"{s};" for s in backward))


def _parts(operation: Operation, dialect: Dialect) -> tuple[tuple[str, ...], tuple[str, ...]]:
    match operation:
        case CreateIndex(design, name):
            return (design.create_sql(name, dialect),), (design.drop_sql(name, dialect),)
        case DropIndex():
            dropped = drop_index_sql(operation.table, operation.name, dialect)
            return (dropped,), (operation.definition,)
        case Analyze(table):
            return (gathering(table, dialect),), ()
        case CreateStatistics() | SetStatisticsTarget():
            return _of_statistics(operation, dialect)
        case SetSettings(settings):
            values = [(name, dialect.setting_value(value)) for name, value in settings]
            return (
                tuple(dialect.setting_tried.format(name=n, value=value) for n, value in values),
                tuple(dialect.setting_back.format(name=name) for name, _ in values),
            )
        case RewriteStatement():
            return (operation.new,), (operation.old,)
        case Custom(forward, backward):
            return forward, backward


def _of_statistics(
    operation: CreateStatistics | SetStatisticsTarget, dialect: Dialect
) -> tuple[tuple[str, ...], tuple[str, ...]]:
    words = dialect.statistics
    assert words is not None, "it is proposed only where the server has words for it"
    table = table_identifier(operation.table, dialect.quoting)
    anew = gathering(operation.table, dialect)
    if isinstance(operation, SetStatisticsTarget):
        column = identifier(operation.column, dialect.quoting)
        before = words.usual_target if operation.before is None else str(operation.before)
        set_to = [
            words.target.format(table=table, column=column, values=values)
            for values in (operation.values, before)
        ]
        return (set_to[0], anew), (set_to[1], anew)
    name = table_identifier(TableName(operation.table.schema, operation.name), dialect.quoting)
    columns = ", ".join(identifier(column, dialect.quoting) for column in operation.columns)
    created = (words.together if columns else words.of_expression).format(
        name=name, columns=columns, expression=operation.expression, table=table
    )
    return (created, anew), (words.dropped.format(name=name),)


def gathering(table: TableName | None, dialect: Dialect) -> str:
    """The statement that gathers a table's statistics, or all that are needed."""
    if table is None:
        return dialect.analyze_needed
    return analyzing(table, dialect)
