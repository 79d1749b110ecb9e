"""What the indexes of a trial cost writers, measured on copies that are rolled back."""

from __future__ import annotations

from dataclasses import replace

from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.core.trials.write_overhead import MeasuredWriteOverhead, write_cost
from humble_ledger.errors import HumbleError
from humble_ledger.workflow.configuration import TargetRole
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.proposing.indexes import seen_updates
from humble_ledger.workflow.trying.making import Making, TrialIndex
from humble_ledger.workflow.workspace import Workspace

_ORDER = ("insert", "update", "delete")


def measured_write_overhead(
    workspace: Workspace, making: Making, mark: str, progress: Progress
) -> list[MeasuredWriteOverhead]:
    """Of each index what writes cost with and without it; nothing on a production server."""
    if not making.indexes:
        return []
    if workspace.target.role is TargetRole.PRODUCTION:
        words = "not measured on a production server"
        return [
            MeasuredWriteOverhead(i.remedy, str(i.design.table), unknown=words)
            for i in making.indexes
        ]
    tables = workspace.session.tables({index.design.table for index in making.indexes})
    found = []
    for index in making.indexes:
        progress(f"writing to copies of {index.design.table}")
        found.append(_of_one(workspace, index, tables[index.design.table], mark))
    return found


def _of_one(
    workspace: Workspace, index: TrialIndex, table: TableFacts, mark: str
) -> MeasuredWriteOverhead:
    name = str(index.design.table)
    try:
        runs = workspace.server(mark).write_runs(
            table,
            lambda copy: replace(index.design, table=copy).create_sql(index.name, index.dialect),
            _updated(workspace, index, table),
        )
    except HumbleError as error:
        return MeasuredWriteOverhead(
            index.remedy, name, unknown=workspace.kept_words(error.message.rstrip("."))
        )
    costs = tuple(
        write_cost(
            operation,
            runs.without[operation],
            runs.with_index[operation],
            runs.updated if operation == "update" else (),
        )
        for operation in _ORDER
        if operation in runs.without
    )
    return MeasuredWriteOverhead(index.remedy, name, runs.rows, runs.copied_rows, costs)


def _updated(workspace: Workspace, index: TrialIndex, table: TableFacts) -> list[str]:
    """The columns that captured updates of the table set most often; else those of its keys."""
    mine = [
        each for each in seen_updates(workspace) if each.table in (table.name.name, str(table.name))
    ]
    if mine:
        return sorted(max(mine, key=lambda each: each.calls).columns)
    return [name for name in index.design.key_columns if name]
