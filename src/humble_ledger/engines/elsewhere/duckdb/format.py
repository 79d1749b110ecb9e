"""DuckDB's plans: EXPLAIN (FORMAT json), EXPLAIN (ANALYZE, FORMAT json), the profiler's files.

By the documentation of its EXPLAIN and of its profiler, and tried on the real program (1.1, 1.3,
2.0). It tells the rows expected of each step, and no costs; measured, the rows that came and the
processor time of each step by itself, summed over threads.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from humble_ledger.core.plans.model import Memory, Operation, Plan, Role
from humble_ledger.core.statements.masking import masked as without_literals
from humble_ledger.core.symptoms.case import Rule
from humble_ledger.engines.contract import Reading, SavedPlan
from humble_ledger.engines.elsewhere.drafts import Draft, assembled, inputs, with_rows_as_cost
from humble_ledger.engines.elsewhere.duckdb.conditions import JoinSides, noted
from humble_ledger.engines.elsewhere.duckdb.operators import HASHED, WRAPPERS, label, operation
from humble_ledger.engines.elsewhere.json_text import children_of, decoded, number, texts
from humble_ledger.errors import UnreadableInput

ENGINE = "duckdb"
_SAVING = "Save what  EXPLAIN (ANALYZE, FORMAT json) …  gives, or the profiler's file."
_MARKS = ('"Estimated Cardinality"', '"operator_timing"', '"operator_type"', '"intermediate_rows"',
          '"extra_info"')  # fmt: skip
_EXPLAIN = re.compile(r"^\s*explain\s*(?:\([^)]*\)|analyze)?\s*", re.IGNORECASE)
_PLACED = frozenset(
    """name operator_name type operator_type children extra_info timing operator_timing
    operator_cardinality intermediate_rows rows_scanned operator_rows_scanned cpu_time
    cumulative_cardinality cumulative_rows_scanned result_set_size
    intermediate_size_bytes""".split()
)
_TOLD = frozenset(
    """Table Text Type Projections Filters Expression Conditions Groups CTE.Name Order.By
    Estimated.Cardinality Join.Type Top Limit Dynamic.Filters Table.Index CTE.Index""".split()
)


# These hand rows on without counting them.
_COUNTS_NOTHING = frozenset(
    """CTE UNION LEFT_DELIM_JOIN RIGHT_DELIM_JOIN DELIM_SCAN DUMMY_SCAN COLUMN_DATA_SCAN
    RECURSIVE_CTE CTE_SCAN PROJECTION""".split()
)


class DuckdbPlans(Reading):
    """Plans of DuckDB."""

    engine = ENGINE
    rests_on = "the documentation of EXPLAIN and of the profiler; tried on DuckDB 1.1, 1.3 and 2.0"

    @property
    def rules(self) -> Sequence[Rule]:  # type: ignore[override]
        """What a plan shows by itself."""
        from humble_ledger.engines.elsewhere.findings import RULES, whole_reads  # noqa: PLC0415

        # Columns are read whole here, with what blocks tell of their values: that is its way.
        return tuple(rule for rule in RULES if rule is not whole_reads)

    def looks_like(self, text: str) -> bool:
        """Whether a text has the keys of such a plan."""
        start = text[:50_000]
        if "{" not in start or '"Plan"' in start[:2_000]:
            return False
        return '"extra_info"' in start and any(mark in start for mark in _MARKS)

    def document(self, text: str) -> object:
        """The JSON in a text."""
        return decoded(text, _SAVING)

    def plans_in(self, document: object) -> Sequence[SavedPlan]:
        """The one plan of a document."""
        top = document[0] if isinstance(document, list) and document else document
        if not isinstance(top, Mapping):
            raise UnreadableInput("This is no plan of DuckDB: an object was expected.", _SAVING)
        root = _Reader(top).root()
        measured = any(draft.seen is not None for draft in root.walk())
        query = top.get("query")
        query = query if isinstance(query, Mapping) else {}
        if not measured:
            with_rows_as_cost(root)
        took = number(query.get("total_time")) or number(top.get("latency"))
        plan = Plan(
            ENGINE,
            "",
            assembled(root, measured=measured),
            measured,
            execution_ms=took * 1000 if took else None,
            own_estimates=not measured,
            details={key: top[key] for key in ("query", "system", "io") if key in top},
            remarks=tuple(_remarks(top, measured)),
        )
        said = str(query.get("sql") or top.get("query_name") or "")
        return (SavedPlan(plan, _EXPLAIN.sub("", said)),)

    def masked(self, document: object) -> object:
        """The document without literals in its conditions and its statement."""
        return _masked(document)


class _Reader:
    def __init__(self, top: Mapping[str, Any]) -> None:
        self.top = top
        self.ctes: dict[str, str] = {}

    def root(self) -> Draft:
        """The step below the wrappers.

        Raises:
            UnreadableInput: there is none.
        """
        raw, place = self.top, "$"
        for _ in range(10):
            below = children_of(raw, "operator" if "operator" in raw else "children", place)
            if _name(raw) and _name(raw) not in WRAPPERS:
                return self._draft(raw, place, 0)
            if len(below) != 1:
                break
            raw, place = below[0]
        raise UnreadableInput(f"There is no step of a plan at {place}.", _SAVING)

    def _draft(self, raw: Mapping[str, Any], place: str, depth: int) -> Draft:
        if depth > 900:
            raise UnreadableInput("The steps of this plan nest too deeply.", _SAVING)
        name = _name(raw)
        if not name:
            raise UnreadableInput(f"The step at {place} has no name.", _SAVING)
        about = _about(raw)
        kind = str(raw.get("type") or raw.get("operator_type") or "").strip()
        what = operation(name, kind)
        if what is Operation.FULL_SCAN and about.get("Type") == "Index Scan":
            what = Operation.INDEX_SCAN
        draft = Draft(what, label(name), rows=number(about.get("Estimated Cardinality")))
        if name == "CTE":
            self.ctes[str(about.get("Table Index", ""))] = str(about.get("CTE Name", ""))
        draft.children = [
            self._draft(each, where, depth + 1)
            for each, where in children_of(raw, "children", place)
        ]
        inputs(draft)
        self._figures(draft, raw)
        self._names(draft, name, about)
        if name == "CTE" and draft.children:
            # It is an input here, as its time is not counted within the steps that read it.
            draft.children[0].role = Role.OUTER
            draft.children[0].more["subplan_name"] = f"CTE {about.get('CTE Name', '')}".strip()
        if name == "FILTER" and len(draft.children) == 1:
            return _into_scan(draft)
        return draft

    def _figures(self, draft: Draft, raw: Mapping[str, Any]) -> None:
        took = number(raw.get("operator_timing", raw.get("timing")))
        came = number(raw.get("operator_cardinality", raw.get("intermediate_rows")))
        if took is None and came is None:
            return
        draft.loops, draft.seen = 1.0, came or 0.0
        if not came and _name(raw) in _COUNTS_NOTHING:
            draft.seen = None
        draft.own_ms = None if took is None else took * 1000
        read = number(raw.get("operator_rows_scanned", raw.get("rows_scanned")))
        scans = (Operation.FULL_SCAN, Operation.INDEX_SCAN)
        if read and draft.operation in scans and read > (came or 0.0):
            draft.discarded = read - (came or 0.0)

    def _names(self, draft: Draft, name: str, about: Mapping[str, Any]) -> None:
        table = str(about.get("Table") or about.get("Text") or "")
        if draft.operation in (Operation.FULL_SCAN, Operation.INDEX_SCAN) and table:
            parts = table.split(".")
            draft.more["relation"] = parts[-1]
            draft.more["schema"] = parts[-2] if len(parts) > 1 else ""
        conditions = [noted(text) for text in texts(about.get("Filters"))]
        conditions += [noted(text) for text in texts(about.get("Expression")) if name == "FILTER"]
        draft.filter = [c for c in conditions if c]
        if about.get("Conditions"):
            sides = JoinSides.of(draft.children)
            draft.join = [sides.noted(text) for text in texts(about["Conditions"])]
        if about.get("Join Type"):
            draft.more["join_type"] = str(about["Join Type"]).title()
        if draft.operation is Operation.AGGREGATE:
            draft.more["group_keys"] = tuple(texts(about.get("Groups")))
            draft.more["by_hash"] = name in HASHED
        if draft.operation is Operation.SORT:
            draft.more["sort_keys"] = tuple(_keys(texts(about.get("Order By"))))
            draft.memory = Memory(method="top-n") if name == "TOP_N" else None
        if draft.operation is Operation.CTE:
            draft.more["cte_name"] = self.ctes.get(str(about.get("CTE Index", "")), "")
            draft.more["alias"] = draft.more["cte_name"]
        if name in ("SEQ_SCAN", "TABLE_SCAN", "PROJECTION"):
            draft.more["output"] = tuple(texts(about.get("Projections")))
        if about.get("Dynamic Filters"):
            said = "; ".join(texts(about["Dynamic Filters"]))
            draft.remarks.append(f"filtered while it runs: {said}")
        for word in ("Top", "Limit"):
            if about.get(word):
                draft.remarks.append(f"{word.lower()} {about[word]}")
        draft.details = {k: v for k, v in about.items() if k.replace(" ", ".") not in _TOLD}


def _into_scan(draft: Draft) -> Draft:
    """A filter right above the reading of a table, as part of that."""
    below = draft.children[0]
    if below.operation not in (Operation.FULL_SCAN, Operation.INDEX_SCAN):
        return draft
    below.filter += draft.filter
    below.remarks.append("filtered in a step of its own")
    if draft.seen is not None:
        below.discarded = (below.discarded or 0.0) + max(0.0, (below.seen or 0.0) - draft.seen)
        below.seen = draft.seen
        below.own_ms = (below.own_ms or 0.0) + (draft.own_ms or 0.0)
    elif below.rows is not None:
        below.rows_read = below.rows
    below.rows = draft.rows if draft.rows is not None else below.rows
    below.details |= draft.details
    return below


def _name(raw: Mapping[str, Any]) -> str:
    found = raw.get("operator_name") or raw.get("name") or raw.get("operator_type") or ""
    return str(found).strip().upper().replace(" ", "_")


def _about(raw: Mapping[str, Any]) -> dict[str, Any]:
    about = raw.get("extra_info")
    if isinstance(about, str):  # as older versions wrote it
        return {"Text": about.split("\n")[0]} if about else {}
    found = dict(about) if isinstance(about, Mapping) else {}
    return found | {k: v for k, v in raw.items() if k not in _PLACED}


def _keys(found: Sequence[str]) -> list[str]:
    """Sort keys, which come one by one or with commas between them."""
    parts = [part.strip() for text in found for part in re.split(r",(?![^()]*\))", text)]
    return [re.sub(r" ASC\b", "", part) for part in parts if part]


def _remarks(top: Mapping[str, Any], measured: bool) -> list[str]:
    found = []
    if measured:
        found.append("times of steps are of the processor, summed over threads")
    system = top.get("system")
    spilled = number(system.get("total_bytes_spilled")) if isinstance(system, Mapping) else None
    spilled = spilled or number(top.get("system_peak_temp_dir_size"))
    if spilled:
        found.append(f"{spilled / 1024**2:,.1f} MiB went to temporary files")
    io = top.get("io")
    if isinstance(io, Mapping) and number(io.get("total_bytes_read")):
        read = number(io.get("total_bytes_read")) or 0.0
        took = (number(io.get("total_read_time")) or 0.0) * 1000
        found.append(f"{read / 1024**2:,.1f} MiB read from disk in {took:,.1f} ms")
    return found


_WITH_LITERALS = frozenset(
    ("Filters", "Expression", "Conditions", "Projections", "Groups", "Aggregates", "Order By",
     "Dynamic Filters", "sql", "query_name", "Build Min", "Build Max")
)  # fmt: skip


def _masked(part: Any, key: str = "") -> Any:
    if isinstance(part, Mapping):
        return {name: _masked(value, str(name)) for name, value in part.items()}
    if isinstance(part, list):
        return [_masked(each, key) for each in part]
    if isinstance(part, str) and key in _WITH_LITERALS:
        return without_literals(part)
    return part
