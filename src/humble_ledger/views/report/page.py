"""The page of a report: templates filled in, styles and scripts put into the file itself.

Nothing is fetched from anywhere, and a content security policy sees to it that nothing can be:
only the scripts that stand here, by their hashes, may run.
"""

from __future__ import annotations

import base64
import hashlib
from pathlib import Path
from typing import Any

from jinja2 import Environment, FileSystemLoader, StrictUndefined
from markupsafe import Markup

from humble_ledger import __version__
from humble_ledger.core.results.ledger_report import Chapter, LedgerReport
from humble_ledger.core.trials.model import Verdict
from humble_ledger.core.workload.ranking import RankedQuery
from humble_ledger.views.escaping import escaped
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.report.growth_curve import growth_line
from humble_ledger.views.report.plan_steps import plan_rows
from humble_ledger.views.report.replay_curves import curves_of
from humble_ledger.views.report.scales import Interval, Window, bars, interval
from humble_ledger.views.wording import in_words

_HERE = Path(__file__).parent
_SCRIPTS = ("page.js", "plan.js")
_SIGNS = {
    Verdict.FASTER: "▼", Verdict.LIGHTER: "▽", Verdict.SLOWER: "▲", Verdict.HEAVIER: "△",
    Verdict.NO_DIFFERENCE: "=", Verdict.UNDECIDED: "?",
}  # fmt: skip
_TONES = {
    Verdict.FASTER: "good", Verdict.LIGHTER: "good", Verdict.SLOWER: "bad", Verdict.HEAVIER: "bad"
}  # fmt: skip


def report_page(report: LedgerReport, numbers: Numbers) -> str:
    """The report as one HTML document, in UTF-8 when it is written."""
    scripts = [(_HERE / "static" / name).read_text(encoding="utf-8") for name in _SCRIPTS]
    return (
        _environment(numbers)
        .get_template("page.html.j2")
        .render(
            report=report,
            window=Window.of(each for chapter in report.chapters for each in chapter.periods),
            # Of ours, and never of a stranger: no text of the ledger comes in here.
            style=Markup((_HERE / "static" / "report.css").read_text(encoding="utf-8")),
            scripts=[Markup(text) for text in scripts],
            script_hashes=[_hash(text) for text in scripts],
            program_version=__version__,
        )
    )


def _environment(numbers: Numbers) -> Environment:
    made = Environment(
        loader=FileSystemLoader(_HERE / "templates"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        # What cannot be seen, or turns the order of letters round, is written out everywhere.
        finalize=lambda value: escaped(value) if type(value) is str else value,
    )
    made.filters |= {
        "ms": numbers.ms,
        "figure": numbers.figure,
        "whole": numbers.whole,
        "rows": numbers.rows,
        "percent": numbers.percent,
        "said": lambda told: in_words(told, numbers),
        "size": numbers.size,
        "times": numbers.times,
        "moment": moment,
        "sign": lambda verdict: _SIGNS.get(verdict, ""),
        "tone": lambda verdict: _TONES.get(verdict, ""),
    }
    made.globals |= {
        "bars": bars,
        "interval": _interval,
        "plan_rows": lambda entry: plan_rows(entry.plan, numbers),
        "curves_of": curves_of,
        "growth_line": growth_line,
        "count": numbers.count,
        "standing": standing,
        "trial_of": _trial_of,
    }
    return made


def moment(text: str | None) -> str:
    """A moment of the ledger as people read it, in UTC: "2026-03-02 17:06"."""
    return "unknown" if not text else text.replace("T", " ")[:16]


def standing(chapter: Chapter) -> tuple[tuple[str, bool], ...]:
    """How far a query has come on the way from its capture to a decision."""
    return (
        ("captured", True),
        ("plan", chapter.plan is not None),
        ("findings", bool(chapter.symptoms)),
        ("remedies", bool(chapter.remedies)),
        ("trials", bool(chapter.trials)),
        ("settled", bool(chapter.settlements)),
    )


def _trial_of(chapter: Chapter, entry: Any) -> Any:
    """The part of a trial that is about this chapter's query."""
    query: RankedQuery = chapter.ranked
    return next(each for each in entry.trial.queries if each.query == query.query.id)


def _interval(ratio: Any) -> Interval | None:
    return None if ratio is None else interval(ratio.estimate, ratio.low, ratio.high)


def _hash(text: str) -> str:
    digest = hashlib.sha256(text.encode()).digest()
    return f"'sha256-{base64.b64encode(digest).decode()}'"
