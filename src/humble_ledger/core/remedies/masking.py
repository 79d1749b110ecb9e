"""Remedies without literals, for a ledger that keeps none."""

from __future__ import annotations

from dataclasses import replace

from humble_ledger.core.remedies.asked import ASKED_FOR
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Checked, Prediction, Remedy, RemedyType
from humble_ledger.core.statements.masking import MASK, masked_expression, masked_told
from humble_ledger.core.statements.tokens import has_placeholders


def masked_remedy(remedy: Remedy) -> Remedy:
    """The remedy with $1 … in place of every literal in its statements and words.

    Settings that were proposed have values that were computed, and stay.
    """
    if remedy.type is RemedyType.SETTING and remedy.reason != ASKED_FOR:
        return remedy
    design = _design(remedy.index)
    if design is not None and design == remedy.index:
        return remedy
    return replace(
        remedy,
        summary=_summary(remedy),
        apply=tuple(map(masked_expression, remedy.apply)),
        revert=tuple(map(masked_expression, remedy.revert)),
        reason=masked_told(remedy.reason),
        index=design,
        beside=_design(remedy.beside),
        predictions=tuple(map(_prediction, remedy.predictions)),
        settings=tuple((name, MASK) for name, _ in remedy.settings),
        values_from=masked_expression(remedy.values_from),
        checked=_checked(remedy.checked),
    )


def _design(design: IndexDesign | None) -> IndexDesign | None:
    """An index without the literals of its condition and of its expressions."""
    if design is None:
        return None
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
    if remedy.type is RemedyType.REWRITE:
        # Its placeholders are those of the statement it stands for, but for its index's.
        beside = remedy.beside
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
