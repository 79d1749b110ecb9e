"""What a server lets us see."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType

from humble_ledger.core.schema.facts import ServerFacts
from humble_ledger.core.schema.readiness import Readiness, SourceState
from humble_ledger.views.terminal.parts import Hanging
from humble_ledger.views.terminal.text import Text

_STYLES = {SourceState.ON: "green", SourceState.OFF: "red", SourceState.CLOSED: "red"}
_INDENT = " " * 4


def preflight_view(server: ServerFacts, found: Sequence[Readiness]) -> RenderableType:
    """Each source with its state, what it tells and hides, and how to open it."""
    head = f"{server.engine} {server.version}, database {server.database} as {server.user}"
    parts: list[RenderableType] = [Text(head), Text("")]
    for each in found:
        state = (each.state.value, _STYLES.get(each.state, "yellow"))
        parts.append(Text.assemble((each.source, "bold"), ": ", state))
        parts.append(Hanging(_INDENT, each.tells))
        if each.hides:
            parts.append(Hanging(_INDENT, "hides " + "; ".join(each.hides)))
        if each.switch_on:
            after = ", then restart the server" if each.restart else ""
            parts.append(Hanging(_INDENT, f"to see more{after}:", "bright_black"))
            parts += [Hanging(_INDENT * 2, statement) for statement in each.switch_on]
        if each.rights:
            parts.append(Hanging(_INDENT, f"we lack: {'; '.join(each.rights)}", "bright_black"))
    return Group(*parts)
