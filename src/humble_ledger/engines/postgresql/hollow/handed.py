"""Files that somebody hands over in place of a connection: a schema, and its statistics.

They are what `pg_dump --schema-only` and `pg_dump --statistics-only` (from version 18 on, also of
older servers) write, as text or in the custom format, in one file or several. Nothing of the
statistics is run: the calls that would restore them are read as text.
"""

from __future__ import annotations

import re
import subprocess
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import psycopg
from psycopg import sql

from humble_ledger.core.statements.tokens import split_statements
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.hollow.outline import Relation, relations_of
from humble_ledger.engines.postgresql.hollow.source import ColumnStatistics, Source
from humble_ledger.engines.postgresql.launcher import Binaries
from humble_ledger.errors import UnreadableInput

MOST_BYTES = 256 * 1024**2
RESTORE_TIMEOUT_S = 120
_CUSTOM = b"PGDMP"
_VERSION = re.compile(r"^-- Dumped from database version (\d+)", re.MULTILINE)
_ROWS = re.compile(r"^COPY .* FROM stdin;$")
_META = re.compile(r"^\\(?:restrict|unrestrict|connect)\b")
# What stands on rows, and is made after there are any.
_AFTER = re.compile(
    r"CREATE (?:UNIQUE )?INDEX|CREATE (?:CONSTRAINT )?TRIGGER|CREATE RULE|CREATE STATISTICS|"
    r"CREATE POLICY|ALTER INDEX|ALTER TABLE (?:ONLY )?.*?(?:ADD CONSTRAINT|CLUSTER ON|"
    r"REPLICA IDENTITY|(?:ENABLE|FORCE) ROW LEVEL|ENABLE (?:ALWAYS |REPLICA )?(?:TRIGGER|RULE))|"
    r"REFRESH MATERIALIZED|ALTER STATISTICS",
    re.DOTALL,
)
# What makes a schema. All else (rights, owners, words about things, rows, and whatever somebody may
# have written into the file) is passed over.
_MAKES = re.compile(r"CREATE |ALTER |SET (?!ROLE|SESSION|LOCAL)\w")
_NEEDLESS = re.compile(
    r"(?:CREATE|ALTER) (?:DATABASE|ROLE|USER|GROUP|PUBLICATION|SUBSCRIPTION|TABLESPACE|SYSTEM)|"
    r"ALTER DEFAULT PRIVILEGES"
)
_CALL = re.compile(r"SELECT \* FROM pg_catalog\.pg_restore_(relation|attribute)_stats\(")
_WORD = r"'((?:[^']|'')*)'"
_ARGUMENT = re.compile(rf"{_WORD}\s*,\s*(?:E?{_WORD}|NULL)(?:::[\w ]+(?:\[\])?)?\s*(?:,|\)\s*$)")
# The arguments of the call, by the field they fill; the server's documented names.
_TEXTS = {
    "common": "most_common_vals", "common_shares": "most_common_freqs",
    "bounds": "histogram_bounds", "elements": "most_common_elems",
    "element_shares": "most_common_elem_freqs", "element_counts": "elem_count_histogram",
    "range_lengths": "range_length_histogram", "range_bounds": "range_bounds_histogram",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Sizes:
    """What one table or index takes, as the catalogue of its server said: pages and rows."""

    pages: int
    rows: float
    all_visible: int


@dataclass(frozen=True, slots=True)
class Numbered:
    """Statistics of a column that has a number instead of a name: an expression of an index."""

    number: int
    statistics: ColumnStatistics


@dataclass(slots=True)
class Handed:
    """What the files hold: statements that make the schema, sizes, statistics.

    ``before`` makes what rows can go into, ``after`` what stands on them. ``major`` is the version
    of the server they are from, 0 when they do not tell. ``rows_left_out`` tells that there were
    rows among them, which are of no use here.
    """

    before: list[str] = field(default_factory=list)
    after: list[str] = field(default_factory=list)
    sizes: dict[tuple[str, str], Sizes] = field(default_factory=dict)
    columns: list[ColumnStatistics] = field(default_factory=list)
    numbered: list[Numbered] = field(default_factory=list)
    major: int = 0
    rows_left_out: bool = False

    @property
    def notes(self) -> list[str]:
        """What cannot be known from files alone."""
        found = []
        if not self.sizes:
            found.append(
                "no statistics were handed over: the planner guesses sizes and numbers of rows "
                "(make them with  pg_dump --statistics-only  of version 18)"
            )
        else:
            found.append(
                "sizes are those of the last VACUUM or ANALYZE, and the ends of columns those of "
                "their histograms"
            )
        if any(text.startswith("CREATE STATISTICS") for text in self.after):
            found.append("what statistics of several columns hold is in no dump")
        if self.rows_left_out:
            found.append("the rows in the files were left out")
        return found


def read_handed(paths: Sequence[Path], binaries: Binaries) -> Handed:
    """Read the files, in the order in which they are given.

    Raises:
        UnreadableInput: one cannot be read, or none makes a table.
    """
    found = Handed()
    for path in paths:
        text = _text_of(path, binaries)
        if version := _VERSION.search(text):
            found.major = int(version[1])
        for statement in split_statements("\n".join(_without_rows(text, found))):
            _take(found, statement)
    if not any("CREATE TABLE" in text for text in found.before):
        raise UnreadableInput(
            f"No table is made in {', '.join(path.name for path in paths)}.",
            "Make the files with  pg_dump --schema-only  and  pg_dump --statistics-only",
        )
    return found


def source_of(handed: Handed, admin: Connection) -> Source:
    """All that was handed over of what is there by now, with the sizes it should have."""
    relations = tuple(_sized(each, handed.sizes) for each in relations_of(admin))
    columns = [*handed.columns, *_named(handed.numbered, admin)]
    return Source(relations, tuple(columns), (), {})


def _text_of(path: Path, binaries: Binaries) -> str:
    try:
        if path.stat().st_size > MOST_BYTES:
            raise UnreadableInput(
                f"{path} has more than {MOST_BYTES // 1024**2} MiB.",
                "Only schema and statistics are needed:  pg_dump --schema-only",
            )
        data = path.read_bytes()
    except OSError as error:
        raise UnreadableInput(f"{path} cannot be read: {error.strerror}.") from None
    if data.startswith(_CUSTOM):
        return _restored(path, binaries)
    return data.decode("utf-8", errors="replace")


def _restored(path: Path, binaries: Binaries) -> str:
    """What an archive holds, as text; its rows are left where they are."""
    kept = ["--schema-only"]
    if binaries.major >= 18:
        kept = ["--no-data", "--statistics"]
    try:
        done = subprocess.run(
            [binaries.program("pg_restore"), *kept, "--no-owner", "--no-privileges", "-f", "-",
             str(path.resolve())],
            capture_output=True, check=False, timeout=RESTORE_TIMEOUT_S,
        )  # fmt: skip
    except (OSError, subprocess.TimeoutExpired) as error:
        raise UnreadableInput(f"{path} cannot be read: {error}.") from None
    if done.returncode != 0:
        said = done.stderr.decode(errors="replace").strip().splitlines()
        raise UnreadableInput(f"{path} cannot be read: {(said or ['no reason'])[0]}.")
    return done.stdout.decode("utf-8", errors="replace")


def _without_rows(text: str, found: Handed) -> Iterator[str]:
    """The lines that are statements: no rows between COPY and the line that ends them."""
    rows = False
    for line in text.split("\n"):
        if rows:
            rows = line != "\\."
        elif _ROWS.match(line):
            rows = found.rows_left_out = True
        elif not _META.match(line):
            yield line


def _take(found: Handed, statement: str) -> None:
    text = _bare(statement)
    call = _CALL.match(text)
    if call is not None:
        _statistics(found, call[1], dict(_arguments(text[call.end() :])))
    elif _AFTER.match(text):
        found.after.append(text)
    elif text.startswith("INSERT "):
        found.rows_left_out = True
    elif _MAKES.match(text) and not _NEEDLESS.match(text) and not _names_an_owner(text):
        found.before.append(text)


def _names_an_owner(text: str) -> bool:
    return text.startswith("ALTER ") and " OWNER TO " in text


def _bare(statement: str) -> str:
    body = statement.strip()
    while body.startswith("--"):
        body = body.partition("\n")[2].lstrip()
    return body


def _arguments(text: str) -> Iterator[tuple[str, str]]:
    """The named arguments of a call that are not null."""
    place = 0
    while found := _ARGUMENT.match(text.rstrip("; \n"), _after_space(text, place)):
        if found[2] is not None:
            yield found[1], found[2].replace("''", "'")
        place = found.end()


def _after_space(text: str, place: int) -> int:
    while place < len(text) and text[place].isspace():
        place += 1
    return place


def _statistics(found: Handed, kind: str, given: Mapping[str, str]) -> None:
    schema, name = given.get("schemaname", ""), given.get("relname", "")
    try:
        if kind == "relation":
            found.sizes[schema, name] = Sizes(
                int(given.get("relpages", 0)), float(given.get("reltuples", -1)),
                int(given.get("relallvisible", 0)),
            )  # fmt: skip
            return
        correlation, empty = given.get("correlation"), given.get("range_empty_frac")
        texts: dict[str, Any] = {f: given.get(argument) for f, argument in _TEXTS.items()}
        column = ColumnStatistics(
            schema, name, given.get("attname", ""), given.get("inherited", "f").startswith("t"),
            float(given.get("null_frac", 0)), int(given.get("avg_width", 0)),
            float(given.get("n_distinct", 0)),
            correlation=float(correlation) if correlation is not None else None,
            empty_share=float(empty) if empty is not None else None,
            **texts,
        )  # fmt: skip
    except ValueError as error:
        raise UnreadableInput(f"The statistics of {schema}.{name} cannot be read: {error}.") from (
            None
        )
    if column.column:
        found.columns.append(column)
    elif given.get("attnum", "").isdigit():
        found.numbered.append(Numbered(int(given["attnum"]), column))


def _sized(relation: Relation, sizes: Mapping[tuple[str, str], Sizes]) -> Relation:
    given = sizes.get((relation.schema, relation.name))
    if given is None:
        return relation
    return replace(
        relation,
        pages=given.pages,
        catalogue_pages=given.pages,
        rows=given.rows,
        all_visible=given.all_visible,
    )


def _named(numbered: Iterable[Numbered], admin: Connection) -> Iterator[ColumnStatistics]:
    for each in numbered:
        place = sql.Identifier(each.statistics.schema, each.statistics.table).as_string(None)
        try:
            row = admin.execute(
                "SELECT attname FROM pg_attribute WHERE attrelid = to_regclass(%s) AND attnum = %s",
                (place, each.number),
            ).fetchone()
        except psycopg.Error:
            row = None
        if row is not None:
            yield replace(each.statistics, column=str(row[0]))
