"""Capturing a script: each statement checked and explained by the server, not run."""

from __future__ import annotations

import sys
import time
from pathlib import Path

from humble_ledger.capture.scripts import ScriptStatement, read_script
from humble_ledger.core.entries import CaptureEntry
from humble_ledger.core.results.captures import ScriptCapture, ScriptRow
from humble_ledger.core.statements.kinds import COMMANDS, Statement, StatementKind, kind_of
from humble_ledger.core.statements.masking import masked, masked_words
from humble_ledger.core.statements.tokens import has_placeholders
from humble_ledger.core.statements.wording import cut
from humble_ledger.core.workload.gathering import NOBODY, Gathering, Harvest, Period, RunSeen
from humble_ledger.core.workload.usage import Usage
from humble_ledger.errors import (
    HumbleError,
    RefusedForSafety,
    StatementRejected,
    TargetUnreachable,
    UnreadableInput,
)
from humble_ledger.ledger.captures import DONE, STOPPED, CaptureTally, CaptureWriter
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.plans import keep_plan
from humble_ledger.workflow.workspace import Workspace

STANDARD_INPUT = Path("-")


def capture_script(
    workspace: Workspace,
    file: Path,
    *,
    measure: bool = False,
    mask: bool = False,
    progress: Progress = lambda _: None,
) -> ScriptCapture:
    """Check and explain each statement of a script, and keep those that have a plan.

    Nothing is run, unless ``measure`` asks for it: then each statement that only reads is run
    once and its duration kept.

    Raises:
        UnreadableInput: the file cannot be read, or holds no statement.
        KeyboardInterrupt: stopped by the user; what was done so far is kept.
    """
    mask = mask or workspace.configuration.mask
    script = read_script(workspace.readable(_text(file)))
    if not script.statements:
        raise UnreadableInput(f"{file} holds no statement.", "Give a file with SQL in it.")
    ledger = workspace.ledger
    gathering = Gathering()
    writer = ledger.captures.begin("script", file.name if file != STANDARD_INPUT else "stdin")
    work = _Work(workspace, gathering, writer, measure, mask)
    rows: list[ScriptRow] = []
    status = DONE
    try:
        for number, statement in enumerate(script.statements, 1):
            progress(f"statement {number} of {len(script.statements)}")
            rows.append(work.row(statement))
    except KeyboardInterrupt:
        status = STOPPED
    refused = dict(script.passed_over)
    for row in rows:
        if row.fault or row.why_not:
            reason = "statement the server rejects" if row.fault else "statement without a plan"
            refused[reason] = refused.get(reason, 0) + 1
    first = next((f"line {r.line}, column {r.column}: {r.fault}" for r in rows if r.fault), "")
    entry: CaptureEntry = writer.finish(
        CaptureTally(passed_over=refused, first_unreadable=first), status
    )
    if status == STOPPED:
        raise KeyboardInterrupt
    return ScriptCapture(entry, tuple(rows), measure)


class _Work:
    def __init__(
        self,
        workspace: Workspace,
        gathering: Gathering,
        writer: CaptureWriter,
        measure: bool,
        mask: bool,
    ) -> None:
        self._workspace = workspace
        self._gathering = gathering
        self._writer = writer
        self._measure = measure
        self._mask = mask

    def row(self, found: ScriptStatement) -> ScriptRow:
        """Check, explain and keep one statement."""
        shown = masked(found.sql) if self._mask else found.sql
        place = (found.line, found.column)
        if kind_of(found.sql) is StatementKind.NO_PLAN:
            word = found.sql.split(None, 1)[0]
            if word.lower() not in COMMANDS and word[0] != "(":
                return ScriptRow(*place, shown, fault=f'"{word}" begins no SQL command')
            return ScriptRow(*place, shown, why_not=f"{word.upper()} has no plan")
        if found.variables:
            names = ", ".join(found.variables)
            return ScriptRow(*place, shown, why_not=f"variables of the client: {names}")
        statement = Statement(found.sql)
        try:
            read = self._workspace.session.explain(statement)
        except TargetUnreachable:
            raise
        except RefusedForSafety as error:
            return ScriptRow(*place, shown, why_not=self._told(error.message))
        except StatementRejected as error:
            at = place if error.position is None else found.place_of(error.position)
            return ScriptRow(*at, shown, fault=self._told(error.said))
        duration, why_not = self._run(statement)
        group = self._keep(found, duration)
        query = self._writer.query(group)
        entry = keep_plan(
            self._workspace, statement, read.plan, read.document, query=query, mask=self._mask
        )
        return ScriptRow(
            *place, shown, query, entry.id, read.plan.cost_total, duration, not_run=why_not
        )

    def _told(self, words: str) -> str:
        return masked_words(words) if self._mask else words

    def _run(self, statement: Statement) -> tuple[float | None, str]:
        """The duration of one run in ms, and why there is none though it was asked for."""
        if not self._measure:
            return None, ""
        if kind_of(statement.sql) is not StatementKind.READS:
            return None, "not run: it changes or locks rows"
        if has_placeholders(statement.sql):
            return None, "not run: it has placeholders and no values for them"
        try:
            # The run alone: asking whether it may be run takes longer than many a small query.
            return self._workspace.session.run(statement).elapsed_ms, ""
        except TargetUnreachable:
            raise
        except HumbleError as error:
            return None, f"not measured: {self._told(error.message)}"

    def _keep(self, found: ScriptStatement, duration: float | None) -> int:
        sql = masked(found.sql) if self._mask else found.sql
        wording, literals = cut(sql) or (sql, [])
        group = self._gathering.groups.of(wording, sql)
        now = time.time()
        run = RunSeen(group, wording, literals, (), NOBODY, "", now, duration)
        usage = Usage(calls=1) if duration is None else Usage.of_runs([duration])
        periods = [Period(group, NOBODY, usage, now, now)]
        self._writer.keep(Harvest(self._gathering.groups.all, periods, [run]))
        return group


def _text(file: Path) -> str:
    if file == STANDARD_INPUT:
        return sys.stdin.buffer.read().decode("utf-8", "replace")
    try:
        return file.read_text(encoding="utf-8", errors="replace")
    except OSError as error:
        raise UnreadableInput(
            f"The file {file} cannot be read: {error.strerror}.", "Check the path."
        ) from error
