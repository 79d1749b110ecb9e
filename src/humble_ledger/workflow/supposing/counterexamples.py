"""Small databases on a copy without rows, to tell a statement from its rewriting."""

from __future__ import annotations

import time
from collections.abc import Mapping

from humble_ledger.core.remedies.counterexamples.model import Search
from humble_ledger.core.remedies.counterexamples.searching import Pair, search
from humble_ledger.core.remedies.counterexamples.subjects import tables_of, unknown_tables
from humble_ledger.core.remedies.model import Checked
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.kinds import Statement, require_readable_run
from humble_ledger.core.statements.side_effects import refuse_run
from humble_ledger.core.statements.tokens import has_placeholders
from humble_ledger.errors import HumbleError
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.workspace import Workspace

LONGEST_SEARCH_S = 8.0


def counterexample(
    workspace: Workspace,
    tables: Mapping[TableName, TableFacts],
    pair: Pair,
    progress: Progress = lambda _: None,
) -> Search:
    """A search for a small database on which two statements differ, on a copy without rows."""
    statements = [pair.old, pair.new]
    if pair.values_from:
        statements.append(Statement(pair.values_from))
    if any(has_placeholders(s.sql) and not s.values for s in statements[:1]):
        return Search(unable="the values of its parameters are not known")
    try:
        session = workspace.session
        names = unknown_tables((pair.old, pair.new), tables, session.server.default_schema)
        used = tables_of((pair.old, pair.new), {**tables, **session.tables(names)})
        if isinstance(used, str):
            return Search(unable=used)
        for each in statements:
            require_readable_run(each.sql, False)
            refuse_run(session.side_effects(each), workspace.limits.may_call)
        ends = time.monotonic() + LONGEST_SEARCH_S
        with workspace.hollow(progress).arena(list(used)) as arena:
            return search(arena, used, pair, enough=lambda: time.monotonic() > ends)
    except HumbleError as error:
        return Search(unable=str(error).rstrip("."))


def checked_of(found: Search) -> Checked:
    """What a search found, as a remedy keeps it."""
    return Checked(
        found.databases,
        found.with_rows,
        tuple(each.words for each in found.missing),
        found.example.words if found.example is not None else "",
        found.unable,
    )
