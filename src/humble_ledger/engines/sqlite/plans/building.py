"""A plan's document from SQLite's listing, the statement, and what is known of its tables.

The library lists what it reads, in which order, by which index, and what it sorts. Rows and costs
it does not tell: these are estimated here, by statistics, a sample of rows, and formulas of
ours. The document holds all of that, so that a plan can be read again without the database.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from sqlglot import exp

from humble_ledger.engines.sqlite.costs import DESCENT, GIVEN, OPERATOR, PASS, ROW
from humble_ledger.engines.sqlite.plans.above import COSTS, Above
from humble_ledger.engines.sqlite.plans.blocks import UNNAMED, Block, Condition, Reading, SubQuery
from humble_ledger.engines.sqlite.plans.drafts import Draft, add_cost, asking, node, once_cost
from humble_ledger.engines.sqlite.plans.knowledge import Knowledge
from humble_ledger.engines.sqlite.plans.listing import Kind, Line
from humble_ledger.engines.sqlite.plans.names import Names
from humble_ledger.engines.sqlite.plans.reads import Reads
from humble_ledger.engines.sqlite.schema import Table

_READS = (Kind.SCAN, Kind.SEARCH, Kind.EITHER, Kind.CONSTANT)
_WORTH_A_STEP = 0.1  # of the cost below it
_MANY = 1_000
_HEADS = ("UNION ALL", "UNION", "EXCEPT", "INTERSECT")


@dataclass(slots=True)
class Builder:
    """Puts the plan of one statement together."""

    knowledge: Knowledge
    reading: Reading | None
    _reads: Reads = field(init=False)
    _above: Above = field(init=False)

    def __post_init__(self) -> None:
        """Those who know the steps of each kind."""
        names = Names(self.reading)
        self._reads = Reads(self.knowledge, names)
        self._above = Above(self.knowledge, names)

    def root(self, lines: Sequence[Line]) -> Draft:
        """The whole plan."""
        tree = self.reading.tree if self.reading is not None else None
        top = self.reading.blocks[0] if self.reading is not None and self.reading.blocks else None
        draft = self._group(lines, top, frozenset())
        if isinstance(tree, exp.Query):
            draft = self._handed_over(draft)
        if isinstance(tree, exp.Insert | exp.Update | exp.Delete):
            target = tree.find(exp.Table)
            rows = draft["rows"] if lines else 1.0
            draft = node(
                "modify", tree.key.upper(), cost=draft["cost"] + rows * 10, rows=rows,
                relation=self._real_name(target.name) if target is not None else "",
                children=[draft] if lines else [],
            )  # fmt: skip
        return draft

    def _handed_over(self, draft: Draft) -> Draft:
        """A last step for what handing many rows to the program takes, where that is much."""
        cost = GIVEN * draft["rows"]
        if cost < _WORTH_A_STEP * draft["cost"] or draft["rows"] < _MANY:
            draft["cost"] += cost
            return draft
        return node(
            "result",
            "HAND ROWS OVER",
            cost=draft["cost"] + cost,
            rows=draft["rows"],
            startup=draft.get("startup", 0.0),
            output=list(draft.get("output", ())),
            children=[draft],
        )

    def _real_name(self, name: str) -> str:
        facts = self.knowledge.facts(name)
        return facts.name.name if facts is not None else name

    def _group(
        self,
        lines: Sequence[Line],
        block: Block | None,
        around: frozenset[str],
        *,
        for_window: bool = False,
        member: bool = False,
    ) -> Draft:
        """What stands at one level: sources, the loops over them, sub-queries, and sorts."""
        for line in lines:
            if line.kind is Kind.SOURCE:
                self._reads.sources[line.name] = self._source(line)
        compound = next((each for each in lines if each.kind is Kind.COMPOUND), None)
        members = [each for each in lines if each.kind is Kind.MEMBER]
        if compound is not None or members:
            said = compound.said if compound is not None else ""
            below = compound.below if compound is not None else members
            draft = self._compound(below, block, said)
            blocks = [block] if block else []
            return self._above.add(draft, lines, block, blocks, for_window=False, member=member)
        reads = [each for each in lines if each.kind in _READS]
        blocks = self._blocks_of(reads, block)
        draft, pool = self._loops(reads, blocks, around)
        draft = self._with_subqueries(draft, lines, blocks, around, pool)
        top = block or (blocks[0] if blocks else None)
        return self._above.add(draft, lines, top, blocks, for_window=for_window, member=member)

    def _blocks_of(self, reads: Sequence[Line], block: Block | None) -> list[Block]:
        """The parts of the statement that are read at one level, each of them once."""
        if self.reading is None:
            return []
        found = [block] if block is not None else []
        for read in reads:
            for name in _names_in(read):
                if any(name.lower() in _small(each.sources) for each in found):
                    continue
                other = next(
                    (b for b in self.reading.blocks
                     if not b.claimed and b not in found and name.lower() in _small(b.sources)),
                    None,
                )  # fmt: skip
                if other is not None:
                    found.append(other)
        for each in found:
            each.claimed = True
        return found

    def _source(self, line: Line) -> Draft:
        """A sub-query, view or CTE that is computed by itself."""
        block = None
        if self.reading is not None:
            for each in self.reading.blocks:
                source = next(
                    (
                        s
                        for a, s in each.sources.items()
                        if a.lower() == line.name.lower()
                        or (a.startswith(UNNAMED) and line.name.startswith(UNNAMED))
                    ),
                    None,
                )
                if source is not None and not isinstance(source, Table):
                    block = self.reading.block_of(source)
                    if block is not None and block.claimed:
                        block = None
                        continue
                    break
        kept = line.said.startswith("MATERIALIZE")
        # Rows are put in order for a window apart from the statement that they belong to.
        window = block is None and line.name.startswith(UNNAMED)
        inner = self._group(line.below, block, frozenset(), for_window=window)
        return node(
            "materialize" if kept else "subquery", line.said, alias=line.name,
            cost=inner["cost"] + inner["rows"] * PASS, rows=inner["rows"], children=[inner],
        )  # fmt: skip

    def _compound(self, members: Sequence[Line], block: Block | None, said: str) -> Draft:
        drafts: list[Draft] = []
        operation, label = "append", "UNION ALL"
        if said.startswith("MERGE") and "UNION ALL" not in said:
            operation, label = "set_operation", said
        for member in members:
            lines = member.below
            head = next((h for h in _HEADS if member.said.startswith(h)), "")
            if head in ("EXCEPT", "INTERSECT", "UNION"):
                operation, label = "set_operation", member.said
            names = [n for each in lines if each.kind in _READS for n in _names_in(each)]
            own = self._unclaimed(names) if drafts else block
            draft = self._group(lines, own, frozenset(), member=True)
            draft["role"] = "member"
            drafts.append(draft)
        rows = sum(draft["rows"] for draft in drafts)
        cost = sum(draft["cost"] for draft in drafts)
        if operation == "set_operation" and not label.startswith("MERGE"):
            cost += COSTS.sort(rows, 0)
        return node(operation, label, cost=cost, rows=rows, children=drafts)

    def _unclaimed(self, names: Sequence[str], correlated: bool | None = None) -> Block | None:
        if self.reading is None:
            return None
        for block in self.reading.blocks:
            if block.claimed or (correlated is not None and block.outer is None):
                continue
            if {name.lower() for name in names} <= _small(block.sources):
                return block
        return None

    def _loops(
        self, reads: Sequence[Line], blocks: Sequence[Block], around: frozenset[str]
    ) -> tuple[Draft, list[Condition]]:
        """One source after the other, each read again for every row of those before it."""
        pool = [c for block in blocks for c in block.conditions]
        claimed = {id(b.tree) for b in blocks}
        pool = [c for c in pool if not self._became_join(c, claimed)]
        seen = set(around)
        whole: Draft | None = None
        for read in reads:
            name = read.name or next(iter(_names_in(read)), "")
            alias = self._alias(name, blocks)
            mine = [
                c for c in pool
                if c.aliases <= seen | {alias} and (alias in c.aliases or not c.aliases - around)
            ]  # fmt: skip
            pool = [c for c in pool if c not in mine]
            loops = max(1.0, whole["rows"]) if whole is not None else 1.0
            inner, join = self._reads.read(read, alias, blocks, mine, loops, first=whole is None)
            seen.add(alias)
            if whole is None:
                whole = self._looked_up(inner, alias) if read.automatic else inner
            else:
                whole = self._joined(whole, inner, join, read)
        if whole is None:
            whole = node("result", "NO TABLE", cost=ROW, rows=1.0)
        return whole, pool

    def _looked_up(self, built: Draft, alias: str) -> Draft:
        """What one call of a sub-query finds in an index that was built for all its calls."""
        built["role"] = "init-plan"
        rows = max(1.0, built["rows"] * built.pop("match", 1.0))
        return node(
            "subquery",
            "LOOKUP IN AUTOMATIC INDEX",
            alias=alias,
            cost=built["cost"] + 4 * DESCENT + rows * ROW,
            rows=rows,
            join=built.pop("hashed", []),
            children=[built],
        )

    def _became_join(self, condition: Condition, claimed: set[int]) -> bool:
        """Whether the sub-query of a condition is read beside the tables, as a join."""
        if self.reading is None:
            return False
        for number in condition.subqueries:
            block = self.reading.block_of(self.reading.subqueries[number - 1].tree)
            if block is not None and id(block.tree) in claimed:
                return True
        return False

    def _alias(self, name: str, blocks: Sequence[Block]) -> str:
        for block in blocks:
            for alias in block.sources:
                if alias.lower() == name.lower():
                    return alias
        return name

    def _joined(self, outer: Draft, inner: Draft, join: Sequence[Condition], read: Line) -> Draft:
        """A loop over two inputs, or one whose inner side is an index built for this run."""
        inner["role"] = "inner"
        rows = outer["rows"] * inner["rows"]
        for each in join:
            rows *= self._reads.joined_share(each)
        if read.left_join:
            rows = max(rows, outer["rows"])
        if read.exists:
            rows = min(rows, outer["rows"])
        common = {
            "join": [c.text for c in join], "rows": rows, "children": [outer, inner],
            "join_type": "Left" if read.left_join else "Semi" if read.exists else "Inner",
        }  # fmt: skip
        if read.automatic:
            built = inner["cost"]
            common["join"] = inner.pop("hashed", []) + common["join"]
            found = max(rows * inner.pop("match", 1.0), 1.0)
            common["rows"] = found
            probes = outer["rows"] * 4 * DESCENT + found * (PASS + ROW)
            return node(
                "hash_join", "LOOKUP IN AUTOMATIC INDEX",
                cost=outer["cost"] + built + probes, **common,
            )  # fmt: skip
        # Of those that need only exist, the first row ends the search.
        part = 1.0 / max(1.0, inner["rows"]) if read.exists else 1.0
        cost = outer["cost"] + outer["rows"] * inner["cost"] * part
        cost += outer["rows"] * inner["rows"] * (PASS + OPERATOR * len(join))
        return node("nested_loop", "NESTED LOOP", cost=cost, **common)

    def _with_subqueries(
        self,
        draft: Draft,
        lines: Sequence[Line],
        blocks: Sequence[Block],
        around: frozenset[str],
        pool: Sequence[Condition],
    ) -> Draft:
        """Sub-queries, each below the step that asks for it; the others below the top."""
        outside = frozenset(alias for block in blocks for alias in block.sources) | around
        for line in [each for each in lines if each.kind is Kind.SUBQUERY and each.below]:
            names = [n for each in line.below if each.kind in _READS for n in _names_in(each)]
            block = self._unclaimed(names, correlated=True)
            inner = self._group(line.below, block, outside if line.correlated else frozenset())
            number, known = self._number(block, line)
            inner["role"] = "subplan" if known.correlated or line.correlated else "init-plan"
            name = known.name(number) if line.correlated == known.correlated else (
                f"{'SubPlan' if line.correlated else 'InitPlan'} {number}"
            )  # fmt: skip
            inner["subplan"] = name
            if line.said.endswith(f"LIST SUBQUERY {line.number}"):
                inner["cost"] += COSTS.sort(inner["rows"], 0)  # kept in order, to be looked up
            asker = asking(draft, f"({name})") or draft
            if asker is draft and line.correlated:
                draft.setdefault("output", []).append(f"({name})")
            asker["children"] = [*asker["children"], inner]
            calls = (
                max(1.0, float(asker["visited"] if "visited" in asker else asker["rows"]))
                if line.correlated
                else 1.0
            )
            once = once_cost(inner)
            added = once + (inner["cost"] - once) * calls
            asker["cost"] += added
            if asker is not draft:
                add_cost(draft, asker, added)
        return draft

    def _number(self, block: Block | None, line: Line) -> tuple[int, SubQuery]:
        if self.reading is not None and block is not None:
            for number, each in enumerate(self.reading.subqueries, 1):
                if self.reading.block_of(each.tree) is block:
                    return number, each
        known = self.reading.subqueries if self.reading is not None else []
        made = SubQuery(exp.Select(), line.correlated)
        known.append(made)
        return len(known), made


def _names_in(read: Line) -> list[str]:
    if read.kind is Kind.EITHER:
        parts = [e for part in read.below for e in ([part] if part.name else part.below)]
        return list(dict.fromkeys(e.name for e in parts if e.name))
    return [read.name] if read.name else []


def _small(sources: Iterable[str]) -> set[str]:
    return {each.lower() for each in sources}
