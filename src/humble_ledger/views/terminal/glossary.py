"""Terms of the glossary."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType

from humble_ledger.core.glossary.terms import Term, TermKind
from humble_ledger.views.terminal.parts import Hanging, labelled
from humble_ledger.views.terminal.text import Text

_HEADINGS = {
    TermKind.STEP: "steps of plans",
    TermKind.FIGURE: "figures",
    TermKind.CONDITION: "conditions",
    TermKind.WAIT: "waits",
}
MOST_TOLD = 6


def glossary_view(terms: Sequence[Term]) -> RenderableType:
    """A few terms with all their words, many by name only."""
    if len(terms) > MOST_TOLD:
        return Group(
            labelled(
                *(
                    (heading, ", ".join(t.name for t in terms if t.kind is kind))
                    for kind, heading in _HEADINGS.items()
                )
            ),
            Text(""),
            Text("One of them:  humble glossary hash_join", style="bright_black"),
        )
    parts: list[RenderableType] = []
    for term in terms:
        also = f"   also: {', '.join(term.also)}" if term.also else ""
        parts.append(Text.assemble((term.name, "bold"), (f"  {term.kind}{also}", "bright_black")))
        parts.append(Hanging("  ", term.words))
        if term.look_out:
            lead = "" if term.kind is TermKind.WAIT else "Look out: "
            parts.append(Hanging("  ", f"{lead}{term.look_out}"))
        parts.append(Text(""))
    return Group(*parts[:-1])
