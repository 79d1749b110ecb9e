"""What is said of a report that was written."""

from __future__ import annotations

from rich.console import RenderableType

from humble_ledger.core.results.ledger_report import LedgerReport
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled


def report_view(found: LedgerReport, file: str, size: int, numbers: Numbers) -> RenderableType:
    """The file, what is in it, and what was kept."""
    told = numbers.whole(len(found.chapters))
    literals = "no literal of any statement is in it"
    if not found.masked:
        literals = "statements with their values are in it; --mask leaves them out"
    brought = ""
    if found.brought:
        brought = (
            f"{numbers.count(len(found.brought), 'queries')} by kept changes: "
            f"{numbers.ms(found.saved_ms)} less of {numbers.ms(found.ranking.total_ms)} (computed)"
        )
    return labelled(
        ("report", f"{file}, {numbers.size(size)}"),
        ("told", f"{told} of {numbers.count(found.ranking.count, 'queries')}"),
        ("values", literals),
        ("made better", brought),
    )
