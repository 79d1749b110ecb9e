"""The rows of EXPLAIN QUERY PLAN, each line's words taken apart.

What the words may be is told by the manual ("The EXPLAIN QUERY PLAN Command") and by what the
library of version 3.54 says; older ones write "SCAN TABLE t AS a" where newer write "SCAN a".
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from enum import StrEnum


class Kind(StrEnum):
    """What a line says."""

    SCAN = "scan"
    SEARCH = "search"
    EITHER = "either"  # several indexes, the rows of which are joined
    PART = "part"  # one of these
    SORT = "sort"
    SUBQUERY = "subquery"
    SOURCE = "source"  # a sub-query, view or CTE that is read as a table
    COMPOUND = "compound"
    MEMBER = "member"  # one of the parts of a compound
    CONSTANT = "constant"
    OTHER = "other"


@dataclass(slots=True)
class Line:
    """One line with those below it.

    ``name`` is what it reads, as the statement calls it; ``index`` what it goes through,
    ``terms`` what is searched for there: (column, operator), the column "<expr>" for an
    expression. ``covering`` needs no table, ``automatic`` was built for this run.
    ``number`` tells sub-queries apart. Of one that ``exists`` the first row is enough.
    """

    kind: Kind
    said: str
    name: str = ""
    index: str = ""
    terms: tuple[tuple[str, str], ...] = ()
    covering: bool = False
    automatic: bool = False
    by_rowid: bool = False
    by_primary_key: bool = False
    left_join: bool = False
    exists: bool = False
    virtual: bool = False
    number: str = ""
    correlated: bool = False
    sort_for: str = ""
    below: list[Line] = field(default_factory=list)


_READ = re.compile(
    r"^(?P<how>SCAN|SEARCH) (?:TABLE |SUBQUERY )?(?P<name>.+?)(?P<exists> EXISTS)?"
    r"(?: AS (?P<alias>[^ ]+))?"
    r"(?: VIRTUAL TABLE INDEX (?P<virtual>.*?))?"
    r"(?: USING (?P<using>.*?))?"
    r"(?: \((?P<terms>[^()]*(?:\([^()]*\)[^()]*)*)\))?"
    r"(?: \(~\d+ rows?\))?(?P<left> LEFT-JOIN)?$"
)
_SUBQUERY = re.compile(
    r"^(?P<reused>REUSE )?(?P<correlated>CORRELATED )?(?:SCALAR|LIST) SUBQUERY (?P<no>\d+)"
)
_SORT = re.compile(r"^USE TEMP B-TREE FOR (?P<what>.+)$")
_SOURCE = re.compile(r"^(?:CO-ROUTINE|MATERIALIZE) (?P<name>.+)$")
_COMPOUND = re.compile(r"^(?:COMPOUND QUERY|MERGE \(.+\))$")
_MEMBER = re.compile(
    r"^(?:LEFT-MOST SUBQUERY|UNION ALL|(?:UNION|EXCEPT|INTERSECT) USING TEMP B-TREE"
    r"|LEFT|RIGHT|SETUP|RECURSIVE STEP|UNION|EXCEPT|INTERSECT)$"
)
_TERM = re.compile(r"^(?P<column><expr>|[^<>=]+)(?P<operator>>=|<=|=|>|<)(?:\?|\([?,]+\))$")
_SKIPPED = re.compile(r"^ANY\((?P<column>.+)\)$")


def lines_of(rows: Iterable[Sequence[object]]) -> list[Line]:
    """The lines at the top, with all others below them, from rows (id, parent, _, words)."""
    top: list[Line] = []
    known: dict[int, Line] = {}
    for id_, parent, _, words in rows:
        line = line_of(str(words))
        known[int(str(id_))] = line
        above = known.get(int(str(parent)))
        (above.below if above is not None else top).append(line)
    return top


def line_of(words: str) -> Line:
    """One line; what is not known is of the kind OTHER."""
    if words.endswith(("CONSTANT ROW", "CONSTANT ROWS", "VALUES CLAUSE")):
        return Line(Kind.CONSTANT, words)
    if words == "MULTI-INDEX OR":
        return Line(Kind.EITHER, words)
    if words.startswith("INDEX ") and words[6:].isdigit():
        return Line(Kind.PART, words)
    for pattern, kind in ((_SORT, Kind.SORT), (_SOURCE, Kind.SOURCE)):
        found = pattern.match(words)
        if found is not None:
            if kind is Kind.SORT:
                return Line(kind, words, sort_for=found["what"])
            return Line(kind, words, name=_bare(found["name"]))
    found = _SUBQUERY.match(words)
    if found is not None:
        return Line(
            Kind.SUBQUERY, words, number=found["no"], correlated=found["correlated"] is not None
        )
    if _COMPOUND.match(words):
        return Line(Kind.COMPOUND, words)
    if _MEMBER.match(words):
        return Line(Kind.MEMBER, words)
    found = _READ.match(words)
    return _reading(words, found) if found is not None else Line(Kind.OTHER, words)


def _reading(words: str, found: re.Match[str]) -> Line:
    using = found["using"] or ""
    automatic = using.startswith("AUTOMATIC")
    covering = "COVERING INDEX" in using
    by_rowid = using.startswith("INTEGER PRIMARY KEY") or using.startswith("ROWID")
    by_key = using.startswith("PRIMARY KEY")
    index = ""
    if not (automatic or by_rowid or by_key) and "INDEX " in using:
        index = using.partition("INDEX ")[2].strip()
    return Line(
        Kind.SCAN if found["how"] == "SCAN" else Kind.SEARCH,
        words,
        name=_bare(found["alias"] or found["name"]),
        index=index,
        terms=tuple(_terms(found["terms"] or "")),
        covering=covering,
        automatic=automatic,
        by_rowid=by_rowid,
        by_primary_key=by_key,
        left_join=found["left"] is not None,
        exists=found["exists"] is not None,
        virtual=found["virtual"] is not None,
    )


def _terms(text: str) -> Iterable[tuple[str, str]]:
    for part in text.split(" AND "):
        skipped = _SKIPPED.match(part.strip())
        if skipped is not None:
            yield skipped["column"], "any"
            continue
        found = _TERM.match(part.strip())
        if found is None:
            continue
        # A row value is compared as a whole: (a,b)>(?,?) shows all its columns.
        for column in found["column"].strip("()").split(","):
            yield column, found["operator"]


def _bare(name: str) -> str:
    """A name without the quotes some versions write around it."""
    name = name.strip().removeprefix("main.")
    return name[1:-1] if len(name) > 2 and name[0] == name[-1] and name[0] in "\"'`" else name


def apart(lines: Iterable[Line]) -> frozenset[str]:
    """The sources that are computed by themselves, in small letters."""
    found = set()
    waiting = list(lines)
    while waiting:
        line = waiting.pop()
        waiting += line.below
        if line.kind is Kind.SOURCE:
            name = line.name.lower()
            found.add("(subquery-" if name.startswith("(subquery-") else name)
    return frozenset(found)
