"""Candidates on partitions, as indexes on the whole table: what its owner would build."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from humble_ledger.core.remedies.candidates.model import Candidate
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import TableFacts, TableName


def on_wholes(
    found: Iterable[Candidate], tables: Mapping[TableName, TableFacts]
) -> list[Candidate]:
    """Those on partitions moved to the table they are of, where its facts are known; each once."""
    kept: dict[IndexDesign, Candidate] = {}
    for each in found:
        root = each.access.table.root
        whole = tables.get(root) if root is not None else None
        if whole is None:
            kept.setdefault(each.design, each)
            continue
        design = replace(each.design, table=whole.name, parts=whole.parts)
        access = replace(each.access, table=whole)
        beside = tuple(replace(d, table=whole.name, parts=whole.parts) for d in each.beside)
        one = kept.setdefault(design, Candidate(design, access, each.reason, beside))
        if beside and not one.beside:
            kept[design] = replace(one, beside=beside)
    return list(kept.values())
