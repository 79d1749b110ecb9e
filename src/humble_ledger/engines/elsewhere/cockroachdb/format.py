"""CockroachDB's plans: EXPLAIN and EXPLAIN ANALYZE as text (22.2 and later), also VERBOSE.

By the documentation of its EXPLAIN statements; not tried on a real server. It tells the rows
expected of each step and no costs; measured, the rows that came, and of each step by itself the
time in the storage layer and of the processor.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.plans.model import IndexAdvice, Memory, Operation, Plan, Role
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.masking import masked_expression
from humble_ledger.core.symptoms.case import Rule
from humble_ledger.engines.contract import Reading, SavedPlan
from humble_ledger.engines.elsewhere.cockroachdb.figures import count, milliseconds, size_bytes
from humble_ledger.engines.elsewhere.cockroachdb.lines import Lines, Printed, printed
from humble_ledger.engines.elsewhere.cockroachdb.operators import operator
from humble_ledger.engines.elsewhere.drafts import Draft, assembled, inputs, with_rows_as_cost

ENGINE = "cockroachdb"
_LOOKS = re.compile(r"^[ \t│├└─|\"+-]{0,200}• \S", re.MULTILINE)
_WORDS = ("distribution:", "vectorized:", "estimated row count:", "spans:", "actual row count:",
          "table:")  # fmt: skip
_PLACED = frozenset(
    ("estimated row count", "actual row count", "table", "spans", "filter", "equality", "pred",
     "lookup condition", "order", "group by", "ordered", "distinct on", "KV time", "sql cpu time",
     "estimated max memory allocated", "estimated max sql temp disk usage", "id", "label")
)  # fmt: skip
_SAID_OF_ALL = ("rows decoded from KV", "rows read from KV", "cumulative time due to contention",
                "maximum memory usage", "max sql temp disk usage", "network usage")  # fmt: skip
_PAIRS = re.compile(r"^\((?P<left>.*)\) = \((?P<right>.*)\)$")
_ADVISED = re.compile(
    r"CREATE (?:UNIQUE )?INDEX\b(?:.*?) ON (?P<table>[\w.\"]+) \((?P<keys>[^)]*)\)"
    r"(?: STORING \((?P<stored>[^)]*)\))?", re.IGNORECASE,
)  # fmt: skip
_LITERAL_LINE = re.compile(
    r"^(?P<head>.*?\b(?:filter|pred|lookup condition|spans|original sql|size|row \d+, expr \d+): )"
    r"(?P<rest>.*)$"
)


class CockroachPlans(Reading):
    """Plans of CockroachDB."""

    engine = ENGINE
    rests_on = "the documentation of EXPLAIN; not tried on a real server"
    dialect = Dialect(default_schema="public", methods=frozenset((IndexMethod.SORTED,)))

    @property
    def rules(self) -> Sequence[Rule]:  # type: ignore[override]
        """What a plan shows by itself."""
        from humble_ledger.engines.elsewhere.cockroachdb.findings import OWN_RULES  # noqa: PLC0415
        from humble_ledger.engines.elsewhere.findings import RULES  # noqa: PLC0415

        return (*OWN_RULES, *RULES)

    def looks_like(self, text: str) -> bool:
        """Whether a text has steps with their signs, and lines that only such a plan has."""
        start = text[:50_000]
        return _LOOKS.search(start) is not None and any(word in start for word in _WORDS)

    def plans_in(self, document: object) -> Sequence[SavedPlan]:
        """The one plan of a text."""
        found = printed(str(document))
        measured = any("actual row count" in step.told for step in _all(found.root))
        root = _draft(found.root)
        if not measured or not any(draft.own_ms for draft in root.walk()):
            with_rows_as_cost(root)
        plan = Plan(
            ENGINE,
            "",
            assembled(root, measured=measured),
            measured,
            planning_ms=milliseconds(found.head.get("planning time")),
            execution_ms=milliseconds(found.head.get("execution time")) if measured else None,
            own_estimates=any(draft.cost is not None for draft in root.walk()),
            details=dict(found.head),
            remarks=tuple(_remarks(found)),
            advice=tuple(_advice(found.advice)),
        )
        return (SavedPlan(plan),)

    def masked(self, document: object) -> object:
        """The text without literals in its conditions and spans."""
        return "\n".join(_masked_line(line) for line in str(document).splitlines())


def _all(top: Lines) -> Iterator[Lines]:
    waiting = [top]
    while waiting:
        one = waiting.pop()
        yield one
        waiting += one.below


def _draft(top: Lines) -> Draft:
    """The steps of a plan; those below are made before those above, however deep they lie."""
    order, made = list(_all(top)), dict[int, Draft]()
    for step in reversed(order):
        made[id(step)] = _one(step, [made[id(child)] for child in step.below])
    return made[id(top)]


def _one(step: Lines, children: list[Draft]) -> Draft:
    told, about = step.told, operator(step.name)
    draft = Draft(
        about.operation, about.label, children, rows=count(told.get("estimated row count"))
    )
    inputs(draft)
    _roles(draft, step)
    _figures(draft, told)
    _table(draft, told)
    draft.filter = [f"({told['filter']})"] if "filter" in told else []
    draft.join = list(_join_conditions(draft, told))
    draft.more |= _keys(draft, told, about.about)
    draft.details = {name: value for name, value in told.items() if name not in _PLACED}
    if "missing stats" in told.get("estimated row count", "") or "missing stats" in told:
        draft.remarks.append("no statistics of the table")
        draft.more["share_unknown"] = True
    if about.label == "filter" and len(children) == 1:
        return _into_scan(draft)
    return draft


def _roles(draft: Draft, step: Lines) -> None:
    """Sub-queries beside the main query run once, when they are first needed."""
    for child, lines in zip(draft.children, step.below, strict=True):
        if lines.name == "subquery":
            child.role = Role.INIT_PLAN
            child.more["subplan_name"] = f"subquery {lines.told.get('id', '')}".strip()


def _figures(draft: Draft, told: Mapping[str, str]) -> None:
    came = count(told.get("actual row count"))
    if came is not None:
        draft.loops, draft.seen = 1.0, came
    parts = [milliseconds(told.get(name)) for name in ("KV time", "sql cpu time")]
    if any(part is not None for part in parts):
        draft.own_ms = sum(part or 0.0 for part in parts)
    elif came is not None:
        draft.own_ms = 0.0
    used = size_bytes(told.get("estimated max memory allocated"))
    spilled = size_bytes(told.get("estimated max sql temp disk usage"))
    if used is not None or spilled:
        draft.memory = Memory(used_bytes=used, spilled_bytes=spilled or 0)
    read = count(told.get("KV rows decoded") or told.get("KV rows read"))
    if (
        read is not None
        and came is not None
        and read > came
        and draft.operation is not (Operation.NESTED_LOOP)
    ):
        draft.discarded = read - came
    if milliseconds(told.get("KV contention time")):
        draft.remarks.append(f"waited for others' writes: {told['KV contention time']}")


def _table(draft: Draft, told: Mapping[str, str]) -> None:
    table, _, index = told.get("table", told.get("into", "")).partition("@")
    table = table.split("(", 1)[0].strip()
    if not table:
        return
    name, _, alias = table.partition(" AS ")
    parts = name.strip().split(".")
    draft.more |= {"relation": parts[-1], "alias": alias.strip(), "index": ""}
    draft.more["schema"] = parts[-2] if len(parts) > 1 else ""
    index, _, hint = index.strip().partition(" ")
    if hint:
        draft.remarks.append(hint.strip("()"))
    primary = not index or index == "primary" or index.endswith("_pkey")
    spans = told.get("spans", "")
    whole = not spans or spans.startswith("FULL SCAN")
    if draft.label in ("scan", "revscan"):
        if not primary:
            draft.operation = Operation.INDEX_ONLY_SCAN
        elif not whole:
            draft.operation = Operation.INDEX_SCAN
        if spans and not whole:
            draft.remarks.append(f"searched for {spans}")
        elif "SOFT LIMIT" in spans:
            draft.remarks.append("stops when enough rows have come (soft limit)")
    if not (primary and draft.operation is Operation.FULL_SCAN):
        draft.more["index"] = index


def _join_conditions(draft: Draft, told: Mapping[str, str]) -> Iterator[str]:
    found = _PAIRS.match(told.get("equality", ""))
    if found is not None:
        sides = [_only_table(child) for child in draft.children]
        left, right = [*sides, "", ""][:2]
        right = right or str(draft.more.get("alias") or draft.more.get("relation") or "")
        pairs = zip(_listed(found["left"]), _listed(found["right"]), strict=False)
        yield from (f"({_of(left, one)} = {_of(right, other)})" for one, other in pairs)
    for name in ("lookup condition", "pred"):
        if name in told:
            yield f"({told[name]})"


def _only_table(draft: Draft) -> str:
    """The one table below a step; "" where there are several."""
    names = {
        str(d.more.get("alias") or d.more["relation"])
        for d in draft.walk()
        if d.more.get("relation")
    }
    return names.pop() if len(names) == 1 else ""


def _of(table: str, column: str) -> str:
    return f"{table}.{column}" if table and "." not in column else column


def _listed(text: str) -> list[str]:
    return [part.strip() for part in text.split(",") if part.strip()]


def _keys(draft: Draft, told: Mapping[str, str], about: str) -> dict[str, object]:
    joins = (Operation.NESTED_LOOP, Operation.HASH_JOIN, Operation.MERGE_JOIN)
    if draft.operation in joins:
        return {"join_type": about.title() or "Inner"}
    if draft.operation is Operation.SORT:
        keys = [
            key.lstrip("+-") + (" DESC" if key.startswith("-") else "")
            for key in _listed(told.get("order", ""))
        ]
        return {"sort_keys": tuple(keys)}
    if draft.operation in (Operation.AGGREGATE, Operation.DISTINCT):
        keys = _listed(told.get("group by", told.get("distinct on", "")))
        return {"group_keys": tuple(keys), "by_hash": about == "hash" or "ordered" not in told}
    if draft.operation is Operation.CTE:
        return {"cte_name": told.get("label", "")}
    return {}


def _into_scan(draft: Draft) -> Draft:
    """A filter right above the reading of a table, as part of that."""
    below = draft.children[0]
    scans = (Operation.FULL_SCAN, Operation.INDEX_SCAN, Operation.INDEX_ONLY_SCAN,
             Operation.ROW_LOOKUP)  # fmt: skip
    if below.operation not in scans or below.filter:
        return draft
    below.filter = draft.filter
    below.remarks.append("filtered in a step of its own")
    if draft.seen is not None:
        below.discarded = max(0.0, (below.seen or 0.0) - draft.seen)
        below.seen = draft.seen
        below.own_ms = (below.own_ms or 0.0) + (draft.own_ms or 0.0)
    below.rows_read = below.rows
    below.rows = draft.rows
    below.details |= draft.details
    return below


def _remarks(found: Printed) -> Iterator[str]:
    for name in _SAID_OF_ALL:
        if name in found.head and not found.head[name].startswith("0 "):
            yield f"{name}: {found.head[name]}"


def _advice(lines: Sequence[str]) -> Iterator[IndexAdvice]:
    for line in lines:
        found = _ADVISED.search(line)
        if found is None:
            continue
        parts = found["table"].replace('"', "").split(".")
        keys = [key.split()[0] for key in _listed(found["keys"])]
        statement = line.partition("SQL command")[2].lstrip("s: ").strip() or line
        yield IndexAdvice(
            parts[-1],
            parts[-2] if len(parts) > 1 else "",
            equal=tuple(keys),
            included=tuple(_listed(found["stored"] or "")),
            statement=statement,
        )


def _masked_line(line: str) -> str:
    found = _LITERAL_LINE.match(line)
    if found is None:
        return masked_expression(line) if "'" in line else line
    if found["head"].rstrip().endswith("spans:"):
        whole = found["rest"].startswith(("FULL SCAN", "LIMITED SCAN"))
        return line if whole else f"{found['head']}…"
    return found["head"] + masked_expression(found["rest"])
