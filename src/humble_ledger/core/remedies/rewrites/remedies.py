"""Rewritings as remedies, for symptoms whose cause is how a comparison is written."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from humble_ledger.core.remedies.model import Remedy, RemedyType
from humble_ledger.core.remedies.rewrites.comparisons import rewritings
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.kinds import StatementKind, kind_of
from humble_ledger.core.symptoms.model import Symptom

_CAUSES = ("function-on-column", "type-mismatch", "clock-inside-the-expression")


def rewrite_remedies(
    sql: str, tables: Mapping[TableName, TableFacts], found: Iterable[Symptom], query: str
) -> Iterator[Remedy]:
    """The statement written so that an index can serve; reads only, and only where it helps."""
    cures = tuple(dict.fromkeys(s.name for s in found if s.cause.name in _CAUSES))
    if not cures or kind_of(sql) is not StatementKind.READS:
        return
    for each in rewritings(sql, tables):
        yield Remedy(
            type=RemedyType.REWRITE,
            summary=f"the statement with {each.done}",
            apply=(f"{each.sql};",),
            revert=(f"{sql.strip().rstrip(';')};",),
            reason=f"an index can serve; it means the same when {each.same_when}",
            queries=(query,),
            cures=cures,
        )
