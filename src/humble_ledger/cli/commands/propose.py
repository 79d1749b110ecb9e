"""`humble propose [WHAT…]`: changes that should help, with predictions."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for

if TYPE_CHECKING:
    from humble_ledger.core.remedies.choice.weights import Weights
    from humble_ledger.core.remedies.model import RemedyType
    from humble_ledger.core.results.ideas import PlanIdeas
    from humble_ledger.workflow.supposing.predictors import PredictWith
    from humble_ledger.workflow.workspace import Workspace


def propose(
    whats: options.Whats = None,
    top: Annotated[
        int | None, typer.Option("--top", help="Maximum number of remedies.", min=1)
    ] = None,
    types: Annotated[
        list[str] | None,
        typer.Option(
            "--type", help="Only index, rewrite, statistics, setting or removal; repeatable."
        ),
    ] = None,
    sql: Annotated[
        bool, typer.Option("--sql", help="Give a script for review in place of the table.")
    ] = False,
    budget: Annotated[
        list[str] | None,
        typer.Option(
            "--budget",
            help="The best set of indexes within a size (100MB), a number (5), or more "
            "writing (20%); repeatable.",
            metavar="LIMIT",
        ),
    ] = None,
    weigh: Annotated[
        str,
        typer.Option(
            "--weigh",
            help="How queries count with --budget: time (captured), cost, calls (cost times "
            "calls), or equally.",
            metavar="BY",
        ),
    ] = "",
    least_gain: Annotated[
        str,
        typer.Option(
            "--least-gain",
            help="Leave out of --budget each index that adds less than this share, such as 2%.",
            metavar="SHARE",
        ),
    ] = "",
    predict_with: options.PredictWithOption = "",
    allow_side_effects: options.AllowSideEffects = None,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Propose indexes, rewrites, statistics, settings, removals, with predictions; builds nothing.

    Without a WHAT it proposes for all captured queries and for the schema. For a saved plan it
    gives ideas from the plan's own conditions, beside what its server suggests.

    Example: [bold]humble propose q3[/bold], or [bold]humble propose --budget 100MB[/bold]
    """
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents.remedies import remedies_document  # noqa: PLC0415
    from humble_ledger.views.terminal.remedies import (  # noqa: PLC0415
        remedies_sql,
        remedies_view,
        together_among,
    )
    from humble_ledger.workflow.proposing.everything import propose as find  # noqa: PLC0415
    from humble_ledger.workflow.proposing.saved import ideas_for  # noqa: PLC0415
    from humble_ledger.workflow.supposing.predictors import predictor_named  # noqa: PLC0415

    wanted, way = _types(types or []), predictor_named(predict_with)
    if budget:
        opened = workspace_for(target, timeout, allow_side_effects)
        choosing = _Choosing(budget, top, types or [], way, weigh, least_gain)
        _within(opened, choosing, whats or [], sql, json)
        return
    if weigh or least_gain:
        raise WrongUsage(
            f"{'--weigh' if weigh else '--least-gain'} goes with --budget.",
            "For any size:  humble propose --budget 1TB",
        )
    workspace = workspace_for(target, timeout, allow_side_effects)
    with workspace, output.progress() as progress:
        ideas = ideas_for(workspace, whats or ())
        if ideas is None:
            found = find(workspace, whats or (), progress, wanted, way)
    if ideas is not None:
        _give_ideas(workspace, ideas, sql=sql and not json, json=json)
        return
    shown = found.remedies[:top] if top is not None else found.remedies
    if sql and not json:
        output.show(remedies_sql(shown), whole_lines=True)
        return
    others = found.alternatives if top is None else ()
    output.give(
        json,
        lambda: remedies_document(
            shown,
            others,
            found.left_out,
            found.cautions,
            found.refused,
            found.stopped_early,
            together_among(found, shown),
        ),
        lambda: remedies_view(found, numbers_of(workspace), top),
    )


def _give_ideas(workspace: Workspace, found: PlanIdeas, *, sql: bool, json: bool) -> None:
    from humble_ledger.views.documents.ideas import ideas_document  # noqa: PLC0415
    from humble_ledger.views.terminal.ideas import ideas_view  # noqa: PLC0415

    if sql:
        output.show("\n".join(text for text in found.statements if text), whole_lines=True)
        return
    output.give(
        json, lambda: ideas_document(found), lambda: ideas_view(found, numbers_of(workspace))
    )


@dataclass(frozen=True, slots=True)
class _Choosing:
    """What was asked for with --budget, as it was written."""

    budget: list[str]
    top: int | None
    types: list[str]
    way: PredictWith | None
    weigh: str
    least_gain: str


def _within(
    workspace: Workspace, asked: _Choosing, whats: list[str], sql: bool, json: bool
) -> None:
    """The best set of indexes within a budget."""
    from humble_ledger.core.remedies.choice.budget_text import (  # noqa: PLC0415
        parse_budget,
        parse_share,
    )
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents.choices import choice_document  # noqa: PLC0415
    from humble_ledger.views.terminal.choices import choice_view  # noqa: PLC0415
    from humble_ledger.views.terminal.remedies import remedies_sql  # noqa: PLC0415
    from humble_ledger.workflow.proposing.choosing import Terms, choose_indexes  # noqa: PLC0415

    if asked.top is not None or set(asked.types) - {"index"}:
        raise WrongUsage(
            "--budget chooses a set of indexes: --top and other types do not go with it.",
            "A number of indexes is a budget too:  --budget 5",
        )
    least = parse_share(asked.least_gain, "--least-gain") if asked.least_gain else 0.0
    terms = Terms(parse_budget(asked.budget), _weights(asked.weigh), least)
    with workspace, output.progress() as progress:
        chosen = choose_indexes(workspace, whats, terms, progress, asked.way)
    if sql and not json:
        entries = (*chosen.remedies.values(), *chosen.removals)
        output.show(remedies_sql(entries), whole_lines=True)
        return
    output.give(
        json,
        lambda: choice_document(chosen),
        lambda: choice_view(chosen, numbers_of(workspace)),
    )


def _weights(word: str) -> Weights | None:
    from humble_ledger.core.remedies.choice.weights import Weights  # noqa: PLC0415
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415

    if word and word not in tuple(Weights):
        raise WrongUsage(f'Unknown weights "{word}".', f"Use one of: {', '.join(Weights)}")
    return Weights(word) if word else None


def _types(words: list[str]) -> tuple[RemedyType, ...]:
    from humble_ledger.core.remedies.model import RemedyType  # noqa: PLC0415
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415

    known = [type_ for type_ in RemedyType if type_ is not RemedyType.CHANGE]
    unknown = [word for word in words if word not in known]
    if unknown:
        raise WrongUsage(
            f'Unknown type of remedy "{unknown[0]}".',
            f"Use one of: {', '.join(known)}",
        )
    return tuple(RemedyType(word) for word in words) or tuple(known)
