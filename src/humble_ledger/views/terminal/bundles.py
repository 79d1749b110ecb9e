"""Bundles and the ledger's own care, on a terminal."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich.console import Group, RenderableType

from humble_ledger.core.entries import NoteEntry
from humble_ledger.core.results.bundles import Bundled
from humble_ledger.core.results.care import LedgerCheck, Pruned
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled
from humble_ledger.views.terminal.text import Text

MOST_FAULTS = 30


def export_view(found: Bundled, numbers: Numbers) -> RenderableType:
    """What was written into a bundle."""
    literals = "statements with their values are in it; --mask leaves them out"
    return labelled(
        ("bundle", f"{found.place}, {numbers.size(found.size_bytes)}"),
        ("in it", counted(found.records, numbers)),
        ("values", "no literal of any statement is in it" if found.masked else literals),
        ("next", f"there:  humble import {found.place}"),
    )


def import_view(found: Bundled, numbers: Numbers) -> RenderableType:
    """What was new, and what the ledger had already."""
    return labelled(
        ("read", f"{found.place}, of ledger {found.ledger}"),
        ("new", counted(found.records, numbers)),
        ("known before", counted(found.known, numbers)),
        ("next", "humble queries" if found.records else ""),
    )


def counted(counts: Mapping[str, int], numbers: Numbers) -> str:
    """As in "3 queries, 4 plans"."""
    told = []
    for name, count in counts.items():
        one = {"remedies": "remedy"}.get(name)
        words = f"1 {one}" if one is not None and count == 1 else numbers.count(count, name)
        told += [words] if count else []
    return ", ".join(told) or "nothing"


def check_view(found: LedgerCheck, numbers: Numbers) -> RenderableType:
    """What is in the ledger, and what is wrong with it."""
    head = labelled(
        ("ledger", f"{found.place}, {numbers.size(found.size_bytes)}"),
        ("in it", counted(found.entries, numbers)),
        ("found", "nothing wrong: every chain is complete" if not found.faults else ""),
    )
    shown = [Text(f"- {fault}") for fault in found.faults[:MOST_FAULTS]]
    more = len(found.faults) - len(shown)
    return Group(head, *shown, *([Text(f"and {numbers.whole(more)} more")] if more else []))


def pruned_view(found: Pruned, numbers: Numbers) -> RenderableType:
    """What was removed, or would be."""
    return labelled(
        ("older than", found.before[:16].replace("T", " ") + " UTC"),
        ("would go" if found.only_asked else "removed", counted(found.removed, numbers)),
        ("stays", found.stays),
        ("file", f"{numbers.size(found.bytes_before)} → {numbers.size(found.bytes_after)}"
         if not found.only_asked else ""),
    )  # fmt: skip


def notes_view(notes: Sequence[NoteEntry]) -> RenderableType:
    """What people wrote to an entry."""
    lines = [
        Text(f"note of {each.at[:16].replace('T', ' ')} by {each.person}: {each.text}")
        for each in notes
    ]
    return Group(Text(""), *lines)
