"""What candidate indexes may be: by the server, and by what the application never changes."""

from __future__ import annotations

from collections.abc import Callable

from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.remedies.candidates.model import IndexAbilities
from humble_ledger.core.schema.facts import IndexKey, TableName
from humble_ledger.core.statements.constants import Constants
from humble_ledger.workflow.reading.subjects import Subject
from humble_ledger.workflow.workspace import Workspace


def abilities(workspace: Workspace, subject: Subject, entry: PlanEntry) -> IndexAbilities:
    """What the server allows, and which constants the application never changes."""
    given_as_text = subject.query is None and subject.plan is None
    if given_as_text or entry.query is None:
        constants = Constants.of_text(entry.statement)
    else:
        runs = workspace.ledger.queries.runs(entry.query)
        constants = Constants.of_runs((run.literals, run.parameters) for run in runs)
    return abilities_for(workspace, constants)


def abilities_for(workspace: Workspace, constants: Constants) -> IndexAbilities:
    """What the server allows, where these are the constants."""
    session = workspace.session
    return IndexAbilities(
        constants.always,
        session.is_immutable,
        session.operator_classes(),
        workspace.engine.dialect.methods,
        workspace.engine.dialect.includes,
        workspace.engine.plans.candidates,
        workspace.engine.dialect.most_key_bytes,
        workspace.engine.dialect.keys_tell_kinds,
        sampled_key(workspace),
    )


def sampled_key(workspace: Workspace) -> Callable[[TableName, IndexKey], KeySample | None]:
    """What a sample shows of one key, where the server has keys of beginnings of values."""
    if not workspace.engine.dialect.beginning:
        return lambda _, __: None
    return lambda table, key: workspace.session.sample_keys(table, (key,), (), "")
