"""Settling: the decision on a trial, and the migration pair it comes to."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path

from humble_ledger.core.entries import RemedyEntry, SettlementEntry, TrialEntry
from humble_ledger.core.remedies.masking import lacks_literals
from humble_ledger.core.remedies.migration import Migration, migration_of
from humble_ledger.core.remedies.model import RemedyType
from humble_ledger.core.trials.model import Verdict
from humble_ledger.errors import HumbleError, UnreadableInput, WrongUsage
from humble_ledger.ledger.shelf import now
from humble_ledger.workflow.workspace import Workspace

# A name of the database may hold anything, also what leads to another folder.
_NOT_IN_FILE_NAMES = re.compile(r"[^\w-]+")
DECISIONS = ("keep", "drop")


@dataclass(frozen=True, slots=True)
class Settled:
    """A settlement with the trial it decides."""

    entry: SettlementEntry
    trial: TrialEntry


def settle(
    workspace: Workspace, trial: str, decision: str, reason: str = "", *, applied: bool = False
) -> Settled:
    """Record the decision on a trial; "keep" writes the migration forwards and backwards.

    What was settled so before stays as it is: with ``applied``, that it was now made for good is
    all that is new, and there is one pair of migrations.

    Raises:
        WrongUsage: the decision is neither keep nor drop, the trial was not finished or is settled
            so already, or it speaks against keeping and no reason was given.
    """
    if decision not in DECISIONS:
        raise WrongUsage(
            f'Unknown decision "{decision}".', f"Use  humble settle {trial} keep  or  … drop"
        )
    entry = workspace.ledger.trials.get(trial)
    if entry.trial is None:
        raise WrongUsage(
            f"{trial} has no result ({entry.status}), so there is nothing to settle.",
            "Try again:  humble trial …",
        )
    before = next(iter(workspace.ledger.trials.settlements(trial)), None)
    if before is not None and before.decision == decision:
        if applied:
            return Settled(before, entry)
        raise _settled_already(before)
    remedies = [workspace.ledger.remedies.get(id_) for id_ in entry.trial.remedies]
    masked = [each.id for each in remedies if lacks_literals(each.remedy)]
    if decision == "keep" and masked:
        raise WrongUsage(
            f"{masked[0]} was kept without its literals (mask), so no migration can be written.",
            f"Write the migration by hand; {trial} stands as the evidence for it.",
        )
    if decision == "keep" and not reason:
        _require_worth(entry, remedies)
    untried = f"not tried: {entry.trial.not_tried}" if entry.trial.not_tried else ""
    reason = reason or untried or f"verdict {entry.trial.verdict.value}"
    files: list[Path] = []
    if decision == "keep":
        files = _write(workspace, _migration(workspace, entry, remedies, reason))
    settled = SettlementEntry(
        trial,
        now(),
        decision,
        workspace.kept_words(reason),
        tuple(os.path.relpath(f, workspace.configuration.folder) for f in files),
    )
    try:
        workspace.ledger.trials.settle(entry, settled, before)
    except HumbleError:
        for file in files:
            file.unlink(missing_ok=True)
        raise
    return Settled(settled, entry)


def _settled_already(before: SettlementEntry) -> WrongUsage:
    keeps = before.decision == "keep"
    files = f", in {' and '.join(before.files)}" if before.files else ""
    other = "drop" if keeps else "keep"
    apply = (
        f"To make it for good:  humble settle {before.trial} keep --apply ; to" if keeps else "To"
    )
    return WrongUsage(
        f"{before.trial} is settled already: {before.decision} ({before.reason}), on "
        f"{before.at[:10]}{files}.",
        f"{apply} decide otherwise:  humble settle {before.trial} {other}",
    )


def _require_worth(entry: TrialEntry, remedies: list[RemedyEntry]) -> None:
    """Only what helped is kept without a word; of a removal it is enough that it hurts nobody."""
    trial = entry.trial
    assert trial is not None
    good = {Verdict.FASTER, Verdict.LIGHTER}
    differs = any(q.same_result is False for query in trial.queries for q in query.sets())
    if all(each.remedy.type is RemedyType.REMOVAL for each in remedies):
        good.add(Verdict.NO_DIFFERENCE)
    refuted = [e.remedy.checked for e in remedies if e.remedy.checked and e.remedy.checked.differs]
    if trial.verdict in good and not differs and not refuted:
        return
    if refuted and not differs:
        raise WrongUsage(
            f"{entry.id} does not support keeping it: {refuted[0].words}.",
            f'If that cannot happen, say why:  humble settle {entry.id} keep --reason "…"',
        )
    said = "its results differ" if differs else f"its verdict is {trial.verdict.value}"
    if trial.not_tried:
        said = "it was not tried"
    raise WrongUsage(
        f"{entry.id} does not support keeping it: {said}.",
        f'If there is another reason, give it:  humble settle {entry.id} keep --reason "…"',
    )


def _migration(
    workspace: Workspace, trial: TrialEntry, remedies: list[RemedyEntry], reason: str
) -> Migration:
    assert trial.trial is not None
    comments = [f"{trial.id} of {trial.at[:10]}: {reason}"]
    for query in trial.trial.queries:
        ratio = query.ratio
        said = f"{query.query}: {query.verdict.value}"
        if ratio is not None:
            said += (
                f", after/before {ratio.estimate:.4f} [{ratio.low:.4f}, {ratio.high:.4f}], "
                f"{ratio.pairs} pairs, measured"
            )
        comments.append(said)
    dialect = workspace.engine.dialect
    parts = [migration_of(entry.remedy, dialect) for entry in remedies]
    return Migration.joined(parts, comments, dialect)


def _write(workspace: Workspace, migration: Migration) -> list[Path]:
    folder = workspace.configuration.folder / workspace.configuration.migrations
    try:
        folder.mkdir(parents=True, exist_ok=True)
        taken = [int(f.name[:4]) for f in folder.glob("[0-9][0-9][0-9][0-9]_*.sql")]
        name = _NOT_IN_FILE_NAMES.sub("_", migration.name)
        stem = f"{max(taken, default=0) + 1:04d}_{name}"
        forward, backward = folder / f"{stem}.forward.sql", folder / f"{stem}.backward.sql"
        forward.write_text(migration.forward, encoding="utf-8")
        backward.write_text(migration.backward, encoding="utf-8")
    except OSError as error:
        raise UnreadableInput(
            f"The migration cannot be written to {folder}: {error.strerror}.",
            'Check the folder named by "migrations" in humble.toml; nothing was settled.',
        ) from error
    return [forward, backward]
