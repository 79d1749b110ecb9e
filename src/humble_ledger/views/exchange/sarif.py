"""A check of limits in SARIF 2.1.0, the OASIS standard for what tools find in sources."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from humble_ledger import __version__
from humble_ledger.core.limits.model import CheckedStatement, CheckOfAll, Outcome
from humble_ledger.core.limits.outline import difference
from humble_ledger.views.wording import in_words

SCHEMA = (
    "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
)
_RULES = {
    "cost": "The estimated cost of a statement stays below its limit.",
    "full-scan": "Tables that are named are not read whole.",
    "index": "The indexes that are named are used.",
    "pages": "A statement touches no more pages than its limit.",
    "rows-read-per-row": "No more rows are read for each row returned than the limit.",
    "spill": "No step of the plan writes to disk what did not fit into memory.",
    "estimates": "The planner's estimates of rows are within a factor of what comes.",
    "time": "A statement takes no longer than its limit.",
    "plan": "A statement with limits can be planned.",
    "no-limits": "Every statement of the folder has limits.",
}


def sarif_of(found: CheckOfAll, folder: Path) -> str:
    """The document; places are told as seen from a folder."""
    results = [each for statement in found.statements for each in _results(statement, folder)]
    results += [
        _result("no-limits", "warning", f"This statement has no limits: {each.text}",
                each.place, each.line, folder)
        for each in found.unlimited
    ]  # fmt: skip
    rules = [
        {"id": name, "shortDescription": {"text": text}} for name, text in sorted(_RULES.items())
    ]
    driver = {"name": "Humble Ledger", "version": __version__, "rules": rules}
    document = {
        "$schema": SCHEMA,
        "version": "2.1.0",
        "runs": [{"tool": {"driver": driver}, "results": results}],
    }
    return json.dumps(document, indent=1, ensure_ascii=True) + "\n"


def _results(each: CheckedStatement, folder: Path) -> list[dict[str, Any]]:
    limited = each.limited
    found = []
    if each.fault:
        text = f"{limited.name} cannot be planned: {each.fault}"
        found.append(_result("plan", "error", text, limited.place, limited.line, folder))
    for check in each.checks:
        if check.outcome is not Outcome.BROKEN:
            continue
        allowed, found_here = in_words(check.allowed), in_words(check.found)
        text = f"{limited.name}: {check.limit} allowed {allowed}, found {found_here}."
        if check.why:
            why = in_words(check.why)
            text += f" {why[0].upper()}{why[1:]}."
        if each.plan_changed:
            text += "\nThe plan has changed:\n" + "\n".join(
                difference(limited.outline, each.outline)
            )
        found.append(_result(check.limit, "error", text, limited.place, limited.line, folder))
    return found


def _result(
    rule: str, level: str, text: str, place: str, line: int, folder: Path
) -> dict[str, Any]:
    path = Path(place.rpartition(":")[0] or place)
    try:
        shown = path.resolve().relative_to(folder.resolve())
    except ValueError:
        shown = path
    location = {
        "physicalLocation": {
            "artifactLocation": {"uri": shown.as_posix()},
            "region": {"startLine": line},
        }
    }
    return {"ruleId": rule, "level": level, "message": {"text": text}, "locations": [location]}
