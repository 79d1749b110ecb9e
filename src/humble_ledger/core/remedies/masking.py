"""Remedies without literals, for a ledger that keeps none."""

from __future__ import annotations

from dataclasses import replace

from msgspec.structs import replace as replaced

from humble_ledger.core.remedies.asked import ASKED_FOR
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Checked, Prediction, Remedy, RemedyType
from humble_ledger.core.remedies.operations import (
    CreateIndex,
    CreateStatistics,
    Custom,
    DropIndex,
    Operation,
    RewriteStatement,
    SetSettings,
)
from humble_ledger.core.statements.masking import MASK, masked_expression, masked_told
from humble_ledger.core.statements.tokens import has_placeholders


def masked_remedy(remedy: Remedy) -> Remedy:
    """The remedy with $1 … in place of every literal in its statements and words.

    Settings that were proposed have values that were computed, and stay.
    """
    if remedy.type is RemedyType.SETTING and remedy.reason != ASKED_FOR:
        return remedy
    if remedy.index is not None and _design(remedy.index) == remedy.index:
        return remedy
    return replace(
        remedy,
        summary=_summary(remedy),
        apply=tuple(map(masked_expression, remedy.apply)),
        revert=tuple(map(masked_expression, remedy.revert)),
        reason=masked_told(remedy.reason),
        operation=_operation(remedy.operation),
        predictions=tuple(map(_prediction, remedy.predictions)),
        checked=_checked(remedy.checked),
    )


def _operation(done: Operation) -> Operation:
    """What a remedy does, without literals."""
    match done:
        case CreateIndex(design, name):
            return CreateIndex(_design(design), name)
        case DropIndex():
            return replaced(done, definition=masked_expression(done.definition))
        case CreateStatistics():
            return replaced(done, expression=masked_expression(done.expression))
        case SetSettings(settings):
            return SetSettings(tuple((name, MASK) for name, _ in settings))
        case RewriteStatement(old, new, values_from, beside):
            index = _design(beside) if beside is not None else None
            old, new, values_from = map(masked_expression, (old, new, values_from))
            return RewriteStatement(old, new, values_from, index)
        case Custom(forward, backward):
            forward, backward = (tuple(map(masked_expression, s)) for s in (forward, backward))
            return replaced(done, forward=forward, backward=backward)
    return done


def _design(design: IndexDesign) -> IndexDesign:
    """An index without the literals of its condition and of its expressions."""
    keys = tuple(replace(k, expression=masked_expression(k.expression)) for k in design.keys)
    return replace(design, keys=keys, predicate=masked_expression(design.predicate))


def _checked(found: Checked | None) -> Checked | None:
    """What a search found, without the values of its example."""
    if found is None:
        return None
    return replace(
        found,
        example=masked_expression(found.example),
        unable=masked_expression(found.unable),
    )


def _summary(remedy: Remedy) -> str:
    if remedy.type is RemedyType.SETTING:  # its value may be a bare word
        return f"{', '.join(name for name, _ in remedy.settings)} = {MASK} for one session"
    return masked_expression(remedy.summary)


def lacks_literals(remedy: Remedy) -> bool:
    """Whether a remedy was kept without its literals, so that its statements cannot be sent."""
    if remedy.rewrite is not None:
        # Its placeholders are those of the statement it stands for, but for its index's.
        beside = remedy.rewrite.beside
        texts = (beside.predicate, *(k.expression for k in beside.keys)) if beside else ()
        return any(has_placeholders(text) for text in texts)
    return any(has_placeholders(text) for text in remedy.apply)


def _prediction(found: Prediction) -> Prediction:
    return replace(
        found,
        step=masked_expression(found.step),
        route=masked_expression(found.route),
        caution=masked_expression(found.caution),
    )
