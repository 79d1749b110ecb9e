"""The remedies that a command names: by id, as indexes, or written out by the user."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.entries import RemedyEntry
from humble_ledger.core.remedies.asked import ASKED_FOR, Written
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.foreign import is_plain
from humble_ledger.core.remedies.index_text import parse_index, spelled
from humble_ledger.core.remedies.masking import lacks_literals
from humble_ledger.core.remedies.model import index_remedy
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.errors import RefusedForSafety, WrongUsage
from humble_ledger.workflow.workspace import Workspace


def wanted_remedies(
    workspace: Workspace,
    ids: Sequence[str],
    indexes: Sequence[str],
    written: Written,
    tried: Sequence[TriedQuery] = (),
) -> list[RemedyEntry]:
    """Them all as entries of the ledger; what is written out is kept there now.

    ``tried`` are the queries a rewritten text is for.

    Raises:
        WrongUsage, UnreadableInput: one of them is not there or cannot be read.
    """
    known, dialect = workspace.ledger.remedies, workspace.engine.dialect
    entries = [_with_literals(known.get(id_)) for id_ in ids]
    require_own(entries)
    entries += [known.keep_known(remedy) for remedy in written.remedies(tried, dialect)]
    if not dialect.settings and any(entry.remedy.settings for entry in entries):
        raise WrongUsage(
            "This engine has no settings of a session that a plan depends on.",
            "Try what there is as a change of your own:  --apply SQL --revert SQL",
        )
    designs = [_whole(workspace, parse_index(text, dialect.default_schema)) for text in indexes]
    # A new text is tried with the index that it takes.
    beside = [e.remedy.rewrite.beside for e in entries if e.remedy.rewrite is not None]
    there = {e.remedy.index for e in entries} | set(designs)
    designs += [design for design in beside if design is not None and design not in there]
    made = [index_remedy(d, reason=ASKED_FOR, dialect=dialect) for d in designs]
    return entries + [known.keep_known(remedy) for remedy in made]


def require_own(entries: Sequence[RemedyEntry]) -> None:
    """Refuse to run statements that came from another ledger, and that nobody here has written.

    Raises:
        RefusedForSafety: one of the remedies has such statements.
    """
    for entry in entries:
        if entry.foreign and not is_plain(entry.remedy):
            raise RefusedForSafety(
                f"{entry.id} came from another ledger, and making it would run its statements.",
                f"Read them with  humble show {entry.id} , then give them yourself:  --apply, "
                "--revert, --index or --set",
            )


def _whole(workspace: Workspace, design: IndexDesign) -> IndexDesign:
    """A design that knows the partitions of its table, and names things as the catalogue does."""
    facts = workspace.session.tables([design.table]).get(design.table)
    return spelled(design, facts) if facts is not None else design


def _with_literals(entry: RemedyEntry) -> RemedyEntry:
    if lacks_literals(entry.remedy):
        raise WrongUsage(
            f"{entry.id} was kept without its literals (mask), so it cannot be sent.",
            "Write it out again, with --index or --apply and --revert.",
        )
    return entry
