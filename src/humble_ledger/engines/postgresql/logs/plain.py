"""PostgreSQL's plain log to rows.

An entry starts with a line that carries the prefix and a level; lines that begin with a tab
continue it. DETAIL, STATEMENT and their kin come as entries of their own from the same
process, so each process's last row stays at hand for them.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache, partial
from typing import Any

from humble_ledger.capture.columns import together
from humble_ledger.capture.line_shapes import NOWHERE, Shape, Shapes, client_of, literal_places
from humble_ledger.capture.log_rows import (
    KEY,
    KIND,
    LITERALS,
    NO_DURATION,
    OWN,
    RAN,
    BlockRows,
    BlockWriter,
    Row,
    clean,
    duration_ms,
    in_order,
)
from humble_ledger.engines.postgresql.logs.messages import add_detail, add_statement, row_of
from humble_ledger.engines.postgresql.logs.prefix import entry_pattern

_MESSAGES = frozenset(("LOG", "ERROR", "FATAL"))
_ADDENDA = frozenset(("DETAIL", "HINT", "QUERY", "CONTEXT", "LOCATION", "STATEMENT"))
# The start of an entry of its own, sought near the beginning of a line: a block may be cut
# before it, because nothing that follows belongs to what stands before.
_ENTRY_START = re.compile(
    rb"^(?=[^\t\n])[^\n]{0,400}?(?:LOG|ERROR|FATAL|PANIC|WARNING|NOTICE|INFO|DEBUG[1-5]?):  ", re.M
)
_TAILS_BYTES = (4 * 1024, 64 * 1024)  # most entries are short
# What in a prefix is not to be found in a line as it stands.
_ESCAPES = re.compile(r"%-?\d*[a-zA-Z%]")
_DIGIT = re.compile(r"\d")
# The end of an entry's last line. Splitting by it takes half the time of marking the others.
_LINE_END = re.compile(r"\n(?!\t)")
_LINE_END_BYTES = re.compile(rb"\n(?!\t)")


def plain_rows(
    data: bytes, prefix: str | None, shapes: Shapes | None = None, *, columns: bool = False
) -> BlockRows:
    """The rows of a block of a plain log.

    ``prefix`` is the server's log_line_prefix, None to recognise the common forms; ``shapes``
    are those of the lines of the blocks before. With ``columns`` runs may be given as such.
    """
    text = clean(data.decode("utf-8", "replace"))
    if "\r" in text:  # looking for one character takes a tenth of the time of looking for two
        text = text.replace("\r\n", "\n")
    reading = _Reading(prefix)
    lines = None
    if shapes is not None:
        as_it_stands = text.isascii() and len(text) == len(data)
        lines = _Lines.of(text, data if as_it_stands else text.encode(), prefix, shapes)
    if lines is not None and shapes is not None:
        found = list(reading.entries(lines.unread()))
        if len(found) == len(lines.unknown):
            return _rows_by_shape(text, reading, lines, iter(found), shapes, columns=columns)
    writer = BlockWriter()
    writer.block.lines = text.count("\n")
    last: dict[str, Row | None] = {}
    for entry in reading.entries(text, writer.block):
        _take(writer, last, entry)
    block = writer.finish()
    block.too_long_in(text)
    return block


_Entry = tuple[
    Any, ...
]  # texts or None: level, message, time, session, user, database, application, ran


class _Reading:
    """Entries of a text, by the pattern of a prefix."""

    def __init__(self, prefix: str | None) -> None:
        self.pattern, self.places, self.names = _pattern(prefix)

    def entries(self, text: str, block: BlockRows | None = None) -> Iterator[_Entry]:
        """What the entries of a text say; lines between them are counted in the block.

        Without a block there must be no such lines: nothing is given then.
        """
        # What stands between entries, then each entry's groups, again and again.
        parts, width = self.pattern.split(text), self.pattern.groups + 1
        if any(parts[::width]):
            if block is None:
                return iter(())
            _between(text, self.pattern, block)
        return zip(*(parts[place::width] for place in self.places), strict=True)

    def shape(self, line: str, wording: str, literals: Sequence[str]) -> Shape | None:
        """The shape of a line about a run."""
        match = self.pattern.match(line)
        if match is None:
            return None
        at = {
            name: NOWHERE if match.start(name) < 0 else slice(*match.span(name))
            for name in self.names
        }
        sql, standing = _uncontinued(line, at["message"])
        first = len(sql) - len(sql.lstrip())
        places = literal_places(line, standing[first:], wording, literals)
        if places is None:
            return None
        parts = (at["user"], at["database"], at["application"])
        return Shape(
            session=at[self.names[3]],
            time=at[self.names[2]],
            client=client_of(line, *parts),
            client_parts=parts,
            duration=at["ran"],
            wording=wording,
            literals=places,
        )

    def shape_of_detail(self, line: str) -> Shape | None:
        """The shape of a line with the values of the run before it."""
        match = self.pattern.match(line)
        if match is None:
            return None
        session = self.names[3]
        where = NOWHERE if match.start(session) < 0 else slice(*match.span(session))
        return Shape(where, slice(*match.span("message")))


@dataclass(frozen=True, slots=True)
class _Lines:
    """Entries as a line each, with the lines that continue them; keys and shapes of these.

    ``unknown`` are the places of those without a shape.
    """

    texts: list[str]
    keys: list[bytes]
    shapes: list[Shape | None]
    unknown: list[int]

    @classmethod
    def of(cls, text: str, data: bytes, prefix: str | None, shapes: Shapes) -> _Lines | None:
        """``data`` is the same as bytes. None where shapes are of no use, or digits in the
        prefix mean something.
        """
        if not shapes.useful or (prefix is not None and _DIGIT.search(_ESCAPES.sub("", prefix))):
            return None
        texts = _LINE_END.split(text)
        keys, found, unknown = shapes.of(data, _LINE_END_BYTES)
        if not texts[-1]:  # what stands behind the last line's end; it has no shape
            texts.pop()
            keys.pop()
            found.pop()
            unknown.pop()
        return cls(texts, keys, found, unknown)

    def unread(self) -> str:
        """The lines of no known shape, as they stand in the log."""
        return "\n".join([self.texts[place] for place in self.unknown])


def _rows_by_shape(
    text: str,
    reading: _Reading,
    lines: _Lines,
    entries: Iterator[_Entry],
    shapes: Shapes,
    *,
    columns: bool,
) -> BlockRows:
    """The rows of lines, of which those without a known shape have been read as entries."""
    writer = BlockWriter()
    block = writer.block
    block.lines = text.count("\n")
    alike, others = writer.known_runs(lines.texts, lines.shapes)
    if columns and alike and not others:
        block.columns = together(alike)
        return block
    rows = in_order(alike, len(lines.texts))
    last: dict[str, Row | None] = {}
    unknown: list[tuple[str, bytes, Row]] = []
    for line, key, shape, known in zip(lines.texts, lines.keys, lines.shapes, rows, strict=True):
        if shape is None:
            level, row = _take(writer, last, next(entries))
            if level == "LOG" and row is not None and row[KIND] == RAN:
                unknown.append((line, key, row))
            elif level == "DETAIL" and row is not None and row[KIND] == RAN:
                shapes.learn(key, partial(reading.shape_of_detail, line))
        elif shape.wording is None:
            before = last.get(line[shape.session])
            if before is not None:
                add_detail(writer, before, line[shape.detail].replace("\n\t", "\n"))
        else:
            if known is not None:
                block.rows.append(known)
            last[line[shape.session]] = known
    writer.finish()
    block.too_long_in(text)
    for line, key, row in unknown:
        if row[KEY] >= 0 and shapes.useful:
            wording = block.keys[row[KEY]][0]
            shapes.learn(key, partial(reading.shape, line, wording, row[LITERALS]))
    return block


def _take(
    writer: BlockWriter, last: dict[str, Row | None], entry: _Entry
) -> tuple[str, Row | None]:
    """Take an entry; its level, and the row it made or was added to."""
    level, message, stamp, session, user, database, application, ran = entry
    # A tab at the start of a line is the server's own mark of a continuation.
    words = message.replace("\n\t", "\n") if "\n" in message else message
    if level in _ADDENDA:
        before = last.get(session or "")
        _add(writer, before, level, words)
        return level, before
    writer.block.entries += 1
    row = None
    if level in _MESSAGES:
        client = writer.client((user or "", database or "", application or ""))
        if ran is None:
            row = row_of(writer, words, stamp or "", session or "", client)
        elif client < 0:
            writer.block.pass_over(OWN)
        elif (ms := duration_ms(ran)) is None:
            writer.block.pass_over(NO_DURATION)
        else:
            row = writer.run(words, stamp or "", session or "", client, ms)
        if row is not None:
            writer.block.rows.append(row)
    last[session or ""] = row
    return level, row


def _add(writer: BlockWriter, row: Row | None, level: str, words: str) -> None:
    if row is not None and level == "DETAIL":
        add_detail(writer, row, words)
    elif row is not None and level == "STATEMENT":
        add_statement(writer, row, words)


def _uncontinued(line: str, at: slice) -> tuple[str, list[int]]:
    """A part of a line without the tabs that begin continuation lines, and where each of its
    characters stands, and its end.
    """
    places = [
        place
        for place in range(at.start, at.stop)
        if not (line[place] == "\t" and place > at.start and line[place - 1] == "\n")
    ]
    return "".join([line[place] for place in places]), [*places, at.stop]


def last_cut(data: bytes) -> int | None:
    """Where a block may end: before the last entry that begins in it; None when none does."""
    for begin in (*(max(0, len(data) - tail) for tail in _TAILS_BYTES), 0):
        starts = [match.start() for match in _ENTRY_START.finditer(data, begin) if match.start()]
        if begin:  # the first line may have been cut by the window
            starts = [start for start in starts if data[start - 1 : start] == b"\n"]
        if starts:
            return starts[-1]
        if begin == 0:
            break
    # Nothing in it is an entry: it may as well be cut after any line.
    return None if _ENTRY_START.match(data) else (data.rfind(b"\n") + 1 or None)


def first_start(data: bytes) -> int | None:
    """Where the first entry begins after a line's end; None when none does."""
    match = next((m for m in _ENTRY_START.finditer(data) if m.start() > 0), None)
    return match.start() if match else None


@lru_cache(maxsize=4)
def _pattern(prefix: str | None) -> tuple[re.Pattern[str], tuple[int, ...], tuple[str, ...]]:
    """The pattern of an entry, and places and names of its groups in the order of `_Entry`."""
    pattern = entry_pattern(prefix)
    known = pattern.groupindex
    # A group that no prefix filled is there, too, and always empty.
    names = (
        "level", "message", _filled(pattern, "time", "epoch"), _filled(pattern, "pid", "session"),
        "user", "database", "application", "ran",
    )  # fmt: skip
    return pattern, tuple(known[name] for name in names), names


def _filled(pattern: re.Pattern[str], first: str, other: str) -> str:
    """The one of two groups that the prefix fills; the pattern has both."""
    return other if f"(?P<{first}>)" in pattern.pattern else first


def _between(text: str, pattern: re.Pattern[str], block: BlockRows) -> None:
    """Count the lines that stand between entries; empty ones do not matter."""
    end = 0
    starts = [(match.start(), match.end()) for match in pattern.finditer(text)]
    for start, next_end in [*starts, (len(text), 0)]:
        between = text[end:start]
        lines = [n for n, line in enumerate(between.split("\n")) if line.strip()]
        if lines:
            block.unreadable(text.count("\n", 0, end) + lines[0], len(lines))
        end = next_end
