"""A plan to be made again elsewhere: its tables with statistics, settings, statement and values."""

from __future__ import annotations

from pathlib import Path

from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.filling import fill
from humble_ledger.engines.contract import Capability
from humble_ledger.errors import UnreadableInput, WrongUsage
from humble_ledger.workflow.reading.subjects import subject_of
from humble_ledger.workflow.workspace import Workspace


def reproduce(workspace: Workspace, what: str, to: Path) -> int:
    """Write what the plan of a statement rests on as one file of SQL; its size in bytes.

    Raises:
        WrongUsage: this kind of server does not tell all that its plans rest on.
        UnreadableInput: the statement has no plan, or the file cannot be written.
    """
    session = workspace.session
    supported = session.support(Capability.REPRODUCTION)
    if not supported:
        raise WrongUsage(f"No plan can be carried away: {supported.reason}.", supported.remedy)
    subject = subject_of(workspace, what)
    statement = subject.statement
    if statement is None:
        raise WrongUsage(f"{what} is no statement.", "Name a query by its id, or give the text.")
    plan = session.explain(statement).plan
    default = session.server.default_schema
    tables = sorted({TableName(s or default, name) for s, name in plan.relations()}, key=str)
    if not tables:
        raise WrongUsage("Its plan reads no table, so there is nothing to carry away.")
    settings = "".join(f" --set {name}={value}" for name, value in plan.engine_settings.items())
    how = _HOW.get(plan.engine, "")
    head = [
        f"A statement, the schema of its {len(tables)} tables and their statistics, without rows.",
        f"Planned on {plan.engine} {plan.engine_version}, cost {plan.cost_total or 0:,.0f} "
        "(estimated). Statistics hold values of the data.",
        *(line.format(name=to.stem, file=to.name, settings=settings) for line in how),
    ]
    sql = fill(statement.sql, statement.values).rstrip().rstrip(";")
    # What a server calls itself must not end the comment it stands in.
    text = "".join(f"-- {' '.join(line.splitlines())}\n" for line in head)
    text += f"\n{workspace.server().reproduction(tables)}\n"
    text += f"\nEXPLAIN {'QUERY PLAN ' if plan.engine == 'sqlite' else ''}{sql};\n"
    try:
        to.write_text(text, encoding="utf-8")
    except OSError as error:
        raise UnreadableInput(
            f"{to} cannot be written: {error.strerror}.", "Name another file with  --to"
        ) from error
    return to.stat().st_size


_HOW = {
    "postgresql": (
        "Sizes come with tables, and empty ones have none: so make it a copy without rows,",
        "  humble hollow build --name {name} --from {file}{settings}",
        "and plan it there:  --target hollow:{name}",
    ),
    "sqlite": ("Make it again with:  sqlite3 {name}.db < {file}",),
}
