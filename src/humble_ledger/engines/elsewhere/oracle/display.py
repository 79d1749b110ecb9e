"""What the display package prints: a table of the steps, and sections that explain their lines."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence

from humble_ledger.engines.elsewhere.oracle.figures import count, milliseconds, passes, size
from humble_ledger.engines.elsewhere.oracle.rows import Display, Row
from humble_ledger.errors import UnreadableInput

SAVING = (
    "Save all that  select * from table(dbms_xplan.display_cursor(format => 'ALLSTATS LAST'))  "
    "gives, with the blanks at the beginning of its lines."
)
HEADER = re.compile(r"^[ \t]*\|[ \t]*Id[ \t]*\|[ \t]*Operation[ \t]*\|", re.MULTILINE)
_ID = re.compile(r"^\s*(?P<mark>[*\- ]*?)\s*(?P<id>\d+)\s*$")
_ROW = re.compile(r"^\s*\|[*\- ]*\d+\s*\|")
_RULE = re.compile(r"^\s*-{3,}\s*$")
_SECTION = re.compile(r"^(?P<name>[A-Z][\w /]+?)(?: \((?:identified|according)[^)]*\))?:?\s*$")
_NUMBERED = re.compile(r"^\s*(?P<id>\d+) - (?P<text>.*)$")
_SQL_ID = re.compile(r"^SQL_ID:?\s+(?P<id>\w+)(?:,\s*child number:?\s*(?P<child>\d+))?")
EXPLAINED = "EXPLAINED SQL STATEMENT:"
_HASH = re.compile(r"^Plan hash value:?\s*(\d+)")
_ALIAS = re.compile(r'"?(?P<alias>[^"/@\s]+)"?@"?[^"@]+"?\s*$')
_PART = re.compile(r"\b(access|filter|storage)\(")
_SHORT = {
    "Rows": "rows", "E-Rows": "rows", "A-Rows": "seen_rows", "Starts": "starts",
    "Buffers": "buffers", "Reads": "reads", "Writes": "writes",
}  # fmt: skip
_KIB = 1024.0


def display(text: str) -> Display:
    """The plan in a text; of several the first.

    Raises:
        UnreadableInput: there is no table of steps in it, or a line of it cannot be read.
    """
    return displays(text)[0]


def displays(text: str) -> Sequence[Display]:
    """Every plan in a text, in its order.

    Raises:
        UnreadableInput: there is no table of steps in it, or a line of it cannot be read.
    """
    lines = text.splitlines()
    heads = [n for n, line in enumerate(lines) if HEADER.match(line)]
    if not heads:
        raise UnreadableInput("There is no line with | Id | Operation | in this text.", SAVING)
    begins = [_beginning(lines, head, end) for head, end in zip(heads, [0, *heads], strict=False)]
    ends = [*begins[1:], len(lines)]
    return [
        _one(lines, begin, head, end) for begin, head, end in zip(begins, heads, ends, strict=True)
    ]


def _beginning(lines: Sequence[str], head: int, before: int) -> int:
    """Where what belongs to a table begins: its statement, or the line above it."""
    marks = [n for n in range(before, head) if _begins_statement(lines[n])]
    if marks:
        return marks[-1]
    hashes = [n for n in range(before, head) if _HASH.match(lines[n].strip())]
    return hashes[-1] if hashes else max(before, head - 1)


def _begins_statement(line: str) -> bool:
    bare = line.strip()
    return _SQL_ID.match(bare) is not None or bare.startswith(EXPLAINED)


def _one(lines: Sequence[str], begin: int, head: int, end: int) -> Display:
    begins, place = head + 1, head + 1
    while begins < end and lines[begins].strip() and not _RULE.match(lines[begins]):
        begins += 1  # the head itself was too long for a line
    whole = " ".join(line.strip() for line in lines[head:begins])
    columns = [cell.strip() for cell in whole.strip("|").split("|")]
    rows: list[Row] = []
    for place, line in _whole_rows(lines, begins, end, len(columns)):
        row = _row(line, columns, place)
        if row is not None:
            rows.append(row)
    if not rows:
        raise UnreadableInput("There is no step below the head of this plan.", SAVING)
    if len(rows) > 2 and len({row.depth for row in rows}) == 1:
        raise UnreadableInput(
            "The blanks before the operations are lost: what stands below what cannot be told.",
            SAVING,
        )
    found = Display(rows)
    _head(found, lines[begin:head])
    _sections(found, lines[place + 1 : end])
    return found


def _whole_rows(
    lines: Sequence[str], begin: int, end: int, cells: int
) -> Iterator[tuple[int, str]]:
    """Each row of a table with its place; one that was too long for a line is put together."""
    begun, row = begin, ""
    for place in range(begin, end):
        line = lines[place]
        if _RULE.match(line):
            if row:
                break
            continue
        if not line.strip():
            if row:
                break
            continue
        if _ROW.match(line) and (not row or row.count("|") > cells):
            if row:
                yield begun, row
            begun, row = place, line
        elif row:
            row = f"{row.rstrip()} {line.strip()}"
        else:
            raise UnreadableInput(f"Line {place + 1} is no step: it should begin with |.", SAVING)
    if row:
        yield begun, row


def _row(line: str, columns: Sequence[str], place: int) -> Row | None:
    cells = line.strip()[1:].rstrip("|").split("|")
    if len(cells) < min(len(columns), 2):
        raise UnreadableInput(f"Line {place + 1} breaks off: cells are missing.", SAVING)
    told = dict(zip(columns, cells, strict=False))
    found = _ID.match(told["Id"])
    if found is None:
        raise UnreadableInput(
            f'Line {place + 1} has no number of a step: "{told["Id"].strip()[:20]}".', SAVING
        )
    if "-" in found["mark"]:
        return None  # a step of an adaptive plan that was not taken
    operation = told["Operation"]
    depth = len(operation) - len(operation.lstrip())
    row = Row(int(found["id"]), depth, operation.strip(), told.get("Name", "").strip())
    bare = {name: cell.strip() for name, cell in told.items()}
    for name, where in _SHORT.items():
        if bare.get(name):
            setattr(row, where, count(bare[name]))
    _figures(row, bare)
    return row


def _figures(row: Row, bare: Mapping[str, str]) -> None:
    def first(*names: str) -> str:
        return next((bare[name] for name in names if bare.get(name)), "")

    cost = next((cell for name, cell in bare.items() if name.startswith("Cost")), "")
    row.cost = count(cost)
    whole = size(first("Bytes", "E-Bytes"))
    row.row_bytes = whole / row.rows if whole and row.rows else None
    row.seen_ms = milliseconds(first("A-Time"))
    used = first("Used-Mem")
    row.memory_bytes, row.passes = size(used), passes(used)
    row.temp_bytes = size(first("Used-Tmp", "Max-Tmp"), _KIB)
    row.partitions = (first("Pstart"), first("Pstop"))
    row.queue, row.distribution = first("TQ"), first("PQ Distrib")
    planned = size(first("TempSpc", "E-Temp"))
    if planned:
        row.more["temporary space expected"] = first("TempSpc", "E-Temp")
    for name in ("Time", "E-Time", "OMem", "1Mem", "O/1/M", "IN-OUT", "Inst"):
        if bare.get(name):
            row.more[name] = bare[name]


def _head(found: Display, lines: Sequence[str]) -> None:
    statement: list[str] = []
    within = False
    for line in lines:
        within = within or _begins_statement(line)
        sql_id, plan_hash = _SQL_ID.match(line.strip()), _HASH.match(line.strip())
        if sql_id is not None:
            found.sql_id, statement = sql_id["id"], []
        elif plan_hash is not None:
            found.plan_hash = plan_hash[1]
        elif line.strip().startswith(EXPLAINED):
            statement = []
        elif within and not _RULE.match(line) and not found.plan_hash:
            statement.append(line.strip())
    found.statement = " ".join(part for part in statement if part)


def _sections(found: Display, lines: Sequence[str]) -> None:
    by_id = {row.id: row for row in found.rows}
    for name, entries in _parted(lines):
        if name.startswith("Predicate Information"):
            for number, text in _numbered(entries):
                if number in by_id:
                    _conditions(by_id[number], text)
        elif name.startswith("Query Block Name"):
            for number, text in _numbered(entries):
                alias = _ALIAS.search(text)
                if number in by_id and alias is not None and "/" in text:
                    by_id[number].alias = alias["alias"]
        elif name.startswith("Peeked Binds"):
            found.notes += [f"planned for {text}" for _, text in _numbered(entries)]
        elif name.startswith("Note"):
            found.notes += [line.strip().removeprefix("- ") for line in entries if line.strip()]
        elif name.startswith("Column Projection"):
            for number, text in _numbered(entries):
                if number in by_id:
                    by_id[number].more["columns"] = text


def _parted(lines: Sequence[str]) -> Iterator[tuple[str, list[str]]]:
    """The sections: a name, a rule of hyphens, and lines."""
    name, entries = "", list[str]()
    for place, line in enumerate(lines):
        below = lines[place + 1] if place + 1 < len(lines) else ""
        head = _SECTION.match(line.strip())
        if head is not None and _RULE.match(below):
            if name:
                yield name, entries
            name, entries = head["name"], []
        elif not _RULE.match(line):
            entries.append(line)
    if name:
        yield name, entries


def _numbered(lines: Sequence[str]) -> Iterator[tuple[int, str]]:
    """Entries with their numbers; what goes on in the next line is joined to it."""
    number, text = 0, ""
    for line in lines:
        found = _NUMBERED.match(line)
        if found is not None:
            if text:
                yield number, text
            number, text = int(found["id"]), found["text"].strip()
        elif line.strip() and text:
            text += " " + line.strip()
    if text:
        yield number, text


def _conditions(row: Row, text: str) -> None:
    """`access(…)` and `filter(…)`, the brackets within them and in literals left alone."""
    for found in _PART.finditer(text):
        if found.start() and _inside_literal(text, found.start()):
            continue
        inner = _balanced(text, found.end())
        if found[1] == "access":
            row.access = row.access or inner
        elif found[1] == "filter":
            row.filter = row.filter or inner
        else:
            row.more["storage"] = inner


def _inside_literal(text: str, place: int) -> bool:
    return text[:place].count("'") % 2 == 1


def _balanced(text: str, start: int) -> str:
    depth, quoted = 1, ""
    for place in range(start, len(text)):
        letter = text[place]
        if quoted:
            quoted = "" if letter == quoted else quoted
        elif letter in "'\"":
            quoted = letter
        elif letter == "(":
            depth += 1
        elif letter == ")":
            depth -= 1
            if depth == 0:
                return text[start:place]
    return text[start:]
