"""Options that several commands share."""

from __future__ import annotations

from typing import Annotated

import typer

Json = Annotated[bool, typer.Option("--json", help="Give one JSON document.")]
Target = Annotated[
    str | None,
    typer.Option(
        "--target",
        help="A target of humble.toml or a URL; default: HUMBLE_TARGET, or the first target.",
        metavar="NAME|URL",
        show_default=False,
    ),
]
Timeout = Annotated[
    float,
    typer.Option("--timeout", help="Seconds after which a statement is cancelled.", min=0.1),
]
What = Annotated[
    str,
    typer.Argument(
        help="An id, SQL text, @file, - for standard input, or a saved plan.",
        metavar="WHAT",
        show_default=False,
    ),
]
Whats = Annotated[
    list[str] | None,
    typer.Argument(
        help="Ids, SQL texts or @files; without any, all captured queries.",
        metavar="[WHAT]...",
        show_default=False,
    ),
]
Measure = Annotated[
    bool, typer.Option("--measure", help="Run the statement and measure each step.")
]
AllowWrites = Annotated[
    bool,
    typer.Option(
        "--allow-writes",
        help="With --measure: run a statement that changes data too, and roll it back.",
    ),
]
Mask = Annotated[
    bool,
    typer.Option("--mask", help="Keep no literal and no value of any statement."),
]
AllowSideEffects = Annotated[
    list[str] | None,
    typer.Option(
        "--allow-side-effects",
        help="A function that statements may call though it may act outside of a transaction; "
        "several by commas or by repeating.",
        metavar="FUNCTION",
        show_default=False,
    ),
]
PredictWithOption = Annotated[
    str,
    typer.Option(
        "--predict-with",
        help="planner (on a copy of the target) or formula; default: planner, where "
        "a server can be started here.",
        metavar="WAY",
        show_default=False,
    ),
]
DEFAULT_TIMEOUT = 60.0
