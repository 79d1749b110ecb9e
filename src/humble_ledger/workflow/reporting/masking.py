"""Chapters of a report without the literals of their statements."""

from __future__ import annotations

from dataclasses import replace

from humble_ledger.core.entries import PlanEntry, RemedyEntry, SymptomEntry, TrialEntry
from humble_ledger.core.messages import Message, Told
from humble_ledger.core.remedies.masking import masked_remedy
from humble_ledger.core.results.ledger_report import Brought, Chapter, LedgerReport
from humble_ledger.core.statements.masking import (
    masked,
    masked_error,
    masked_expression,
    masked_message,
)
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.core.trials.model import QueryTrial, Trial
from humble_ledger.engines.registry import plans_of_any
from humble_ledger.ledger.repository import Ledger

_OF_VALUES = frozenset(("value", "values"))  # evidence that may be a bare word of the data


def masked_chapter(ledger: Ledger, chapter: Chapter) -> Chapter:
    """A chapter of which no literal is left: no examples, and each plan read again without."""
    query = chapter.ranked.query
    return replace(
        chapter,
        ranked=replace(chapter.ranked, query=replace(query, statement=query.text, parameters=())),
        sent_by="",  # a route may be a path, with values in it
        runs=(),
        plan=masked_plan(ledger, chapter.plan) if chapter.plan is not None else None,
        symptoms=tuple(_symptom_entry(each) for each in chapter.symptoms),
        remedies=tuple(masked_remedy_entry(each) for each in chapter.remedies),
        trials=tuple(masked_trial_entry(each) for each in chapter.trials),
    )


def masked_report(report: LedgerReport) -> LedgerReport:
    """The parts of a report that concern all queries, without literals."""
    return replace(
        report,
        brought=tuple(_brought(each) for each in report.brought),
        beside_queries=tuple(_symptom_entry(each) for each in report.beside_queries),
        replays=(),
    )


def masked_plan(ledger: Ledger, entry: PlanEntry) -> PlanEntry:
    """A plan read again from the server's document, of which the literals were taken."""
    form = plans_of_any(entry.plan.engine)
    plan = form.read(form.masked(ledger.plans.document(entry.id)), entry.plan.engine_version)
    return replace(entry, statement=masked(entry.statement), parameters=(), plan=plan)


def masked_remedy_entry(entry: RemedyEntry) -> RemedyEntry:
    """A remedy in the ledger without literals."""
    return replace(entry, remedy=masked_remedy(entry.remedy))


def masked_trial_entry(entry: TrialEntry) -> TrialEntry:
    """A trial without the values it was run with, and without what servers said."""
    return replace(entry, trial=None if entry.trial is None else masked_trial(entry.trial))


def masked_trial(trial: Trial) -> Trial:
    """A trial's figures, its words without values."""
    return replace(
        trial,
        queries=tuple(_query_trial(each) for each in trial.queries),
        failed=tuple((query, masked_error(why)) for query, why in trial.failed),
        not_tried=masked_error(trial.not_tried),
    )


def masked_symptom(symptom: Symptom) -> Symptom:
    """A symptom by its names and figures; what is told of it may quote values."""
    evidence = {
        name: masked_expression(value) if isinstance(value, str) else value
        for name, value in symptom.evidence.items()
        if name not in _OF_VALUES
    }
    values = [str(symptom.evidence[name]) for name in _OF_VALUES & symptom.evidence.keys()]
    return replace(
        symptom,
        step=masked_expression(symptom.step),
        summary=masked_message(symptom.summary, values),
        cause=Cause(symptom.cause.name, masked_message(symptom.cause.detail, values)),
        evidence=evidence,
        chain=None,
    )


def _symptom_entry(entry: SymptomEntry) -> SymptomEntry:
    return replace(entry, symptom=masked_symptom(entry.symptom))


def _query_trial(query: QueryTrial) -> QueryTrial:
    return replace(
        query,
        values="",
        result_note=_note(query.result_note),
        others=tuple(_query_trial(each) for each in query.others),
    )


def _note(told: Told) -> Told:
    return masked_message(told) if isinstance(told, Message) else masked_error(told)


def _brought(each: Brought) -> Brought:
    return replace(each, words=masked_expression(each.words))
