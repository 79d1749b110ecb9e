"""JSON Schemas of the documents: `python -m humble_ledger.views.schemas docs/schemas`."""

from __future__ import annotations

import json
import sys
from inspect import cleandoc
from pathlib import Path
from typing import Any

import msgspec

from humble_ledger.core.plans.open_document import VERSION as OPEN_VERSION
from humble_ledger.core.plans.open_document import OpenPlan
from humble_ledger.views.documents.audits import AuditDocument
from humble_ledger.views.documents.bundles import ExportDocument, ImportDocument
from humble_ledger.views.documents.captures import CaptureDocument, LiveDocument, ScriptDocument
from humble_ledger.views.documents.care import (
    LedgerBackupDocument,
    LedgerCheckDocument,
    LedgerPrunedDocument,
)
from humble_ledger.views.documents.choices import ChoiceDocument
from humble_ledger.views.documents.comparisons import ComparisonDocument
from humble_ledger.views.documents.errors import ErrorDocument
from humble_ledger.views.documents.following import FollowedDocument
from humble_ledger.views.documents.glossary import GlossaryDocument
from humble_ledger.views.documents.growth import GrowthDocument
from humble_ledger.views.documents.history import HistoryDocument
from humble_ledger.views.documents.ideas import IdeasDocument
from humble_ledger.views.documents.limits import LimitsDocument, LimitsSetDocument
from humble_ledger.views.documents.plans import PlanDocument
from humble_ledger.views.documents.predictions import PredictionsDocument
from humble_ledger.views.documents.queries import (
    CodeDocument,
    QueriesDocument,
    QueryDocument,
    TagsDocument,
)
from humble_ledger.views.documents.recordings import RecordingDocument
from humble_ledger.views.documents.remedies import RemediesDocument
from humble_ledger.views.documents.replays import ReplayDocument
from humble_ledger.views.documents.reports import ReportDocument
from humble_ledger.views.documents.routes import RoutesDocument
from humble_ledger.views.documents.suppositions import (
    HollowBuiltDocument,
    HollowsDocument,
    HollowsDroppedDocument,
    SuppositionDocument,
)
from humble_ledger.views.documents.symptoms import SymptomsDocument
from humble_ledger.views.documents.tables import ColumnDocument, TableDocument
from humble_ledger.views.documents.targets import PreflightDocument, TargetDocument, TidyDocument
from humble_ledger.views.documents.trials import SettlementDocument, TrialDocument
from humble_ledger.views.documents.watching import WatchEventDocument

DOCUMENTS: tuple[type[msgspec.Struct], ...] = (
    CodeDocument,
    TagsDocument,
    QueriesDocument,
    QueryDocument,
    CaptureDocument,
    ScriptDocument,
    LiveDocument,
    FollowedDocument,
    GlossaryDocument,
    ComparisonDocument,
    RoutesDocument,
    PlanDocument,
    IdeasDocument,
    RecordingDocument,
    SymptomsDocument,
    TableDocument,
    ColumnDocument,
    RemediesDocument,
    SuppositionDocument,
    GrowthDocument,
    HollowBuiltDocument,
    HollowsDocument,
    HollowsDroppedDocument,
    ChoiceDocument,
    TrialDocument,
    ReplayDocument,
    AuditDocument,
    WatchEventDocument,
    ReportDocument,
    ExportDocument,
    ImportDocument,
    LedgerCheckDocument,
    LedgerBackupDocument,
    LedgerPrunedDocument,
    LimitsDocument,
    LimitsSetDocument,
    SettlementDocument,
    HistoryDocument,
    PredictionsDocument,
    TargetDocument,
    TidyDocument,
    PreflightDocument,
    ErrorDocument,
)


def schemas() -> dict[str, str]:
    """File name to the text of the schema, for every document."""
    found = {}
    for document in DOCUMENTS:
        schema = _described(msgspec.json.schema(document))
        kind, version = document.__struct_defaults__[-2:]
        found[f"{kind}-{version}.json"] = json.dumps(schema, indent=2, sort_keys=True) + "\n"
    # What others may write for us needs less than what we write.
    least = json.dumps(_described(msgspec.json.schema(OpenPlan)), indent=2, sort_keys=True)
    found[f"open-plan-{OPEN_VERSION}.json"] = least + "\n"
    return found


def _described(schema: Any) -> Any:
    """The schema, its descriptions without the indentation that they have in our code.

    Not every version of the library takes that away.
    """
    if isinstance(schema, dict):
        return {
            name: cleandoc(part)
            if name == "description" and isinstance(part, str)
            else _described(part)
            for name, part in schema.items()
        }
    return [_described(part) for part in schema] if isinstance(schema, list) else schema


def main() -> None:
    """Write all schemas into the folder given."""
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    for name, text in schemas().items():
        (folder / name).write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
