"""What a capture brought."""

from __future__ import annotations

from rich.console import Group, RenderableType

from humble_ledger.core.entries import CaptureEntry
from humble_ledger.core.glossary.incidents import MEANINGS
from humble_ledger.core.results.captures import ScriptCapture, ScriptRow
from humble_ledger.core.statements.kinds import shorten
from humble_ledger.core.workload.incidents import IncidentKind
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, last_column_gives_way, plain_table
from humble_ledger.views.terminal.text import Text
from humble_ledger.views.wording import in_words

# Kinds of source that are read line by line.
_READ = ("log", "application")


def capture_view(entry: CaptureEntry, numbers: Numbers) -> RenderableType:
    """What a capture brought."""
    passed = ", ".join(f"{numbers.whole(n)} × {why}" for why, n in entry.passed_over.items())
    incidents = ", ".join(
        f"{numbers.whole(n)} × {MEANINGS[IncidentKind(kind)].name}"
        for kind, n in entry.incidents.items()
    )
    runs = "statements" if entry.source == "script" else "runs"
    lines = f": {numbers.count(entry.lines, 'lines')} read" if entry.source in _READ else ""
    state = "" if entry.status == "done" else f" ({entry.status} before its end)"
    return labelled(
        ("capture", f"{entry.id} from {entry.place}{lines}{state}"),
        (
            "kept",
            f"{numbers.count(entry.kept, runs)} of {numbers.count(entry.queries, 'queries')}, "
            f"{numbers.whole(entry.new_queries)} of them new",
        ),
        ("plans", f"{numbers.whole(entry.plans)} in the log" if entry.plans else ""),
        ("incidents", incidents),
        ("passed over", passed),
        ("first unreadable", entry.first_unreadable if entry.source in _READ else ""),
        *(("note", in_words(note, numbers)) for note in entry.notes),
        ("next", "humble queries" if entry.kept else ""),
    )


def script_view(found: ScriptCapture, numbers: Numbers) -> RenderableType:
    """Each statement of a script with its cost, or why it has none; then what was kept."""
    measured = (("ms", "right"),) if found.measured else ()
    table = plain_table(
        ("line", "right"), ("query", "fixed"), ("cost (est.)", "right"), *measured,
        ("statement", "left"),
    )  # fmt: skip
    for row in found.rows:
        ms = [numbers.figure(row.duration_ms) if row.duration_ms is not None else ""]
        table.add_row(
            numbers.whole(row.line),
            row.query or "–",
            numbers.figure(row.cost) if row.cost is not None else "–",
            *(ms if found.measured else []),
            Text(shorten(row.sql, 200)),
        )
    notes = [Text(_said(row), style="red" if row.fault else "") for row in found.rows if _said(row)]
    parts: list[RenderableType] = [last_column_gives_way(table), Text("")]
    if notes:
        parts += [*notes, Text("")]
    return Group(*parts, capture_view(found.entry, numbers))


def _said(row: ScriptRow) -> str:
    if row.fault:
        return f"line {row.line}, column {row.column}: {row.fault}"
    said = row.why_not or row.not_run
    return f"line {row.line}: {said}" if said else ""
