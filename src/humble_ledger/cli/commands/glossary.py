"""`humble glossary [TERM]`: what steps, figures, conditions and waits are."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import options, output


def glossary(
    term: Annotated[
        str,
        typer.Argument(help="A step, figure, condition or wait; without it, all names."),
    ] = "",
    json: options.Json = False,
) -> None:
    """Explain a step, figure, condition or wait in plain words.

    Example: [bold]humble glossary "Bitmap Heap Scan"[/bold]
    """
    from humble_ledger.core.glossary.book import look_up  # noqa: PLC0415
    from humble_ledger.views.documents.glossary import glossary_document  # noqa: PLC0415
    from humble_ledger.views.terminal.glossary import glossary_view  # noqa: PLC0415

    found = look_up(term)
    output.give(json, lambda: glossary_document(found), lambda: glossary_view(found))
