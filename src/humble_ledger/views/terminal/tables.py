"""A table with its indexes, and a column with its values."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from rich.console import Group, RenderableType

from humble_ledger.core.estimates.distribution import (
    AskedValue,
    PlaceKind,
    Spread,
    rest_share,
    spread_of,
)
from humble_ledger.core.results.reports import ColumnReport, TableReport
from humble_ledger.core.schema.facts import ColumnFacts, HeapFacts, IndexFacts, TableFacts
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.plainly import plainly
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import Hanging, bar, labelled, plain_table
from humble_ledger.views.terminal.text import Text
from humble_ledger.views.wording import in_words

MOST_VALUES = 10
BAR_WIDTH = 36


def table_view(found: TableReport, numbers: Numbers) -> RenderableType:
    """Everything the server knows of a table."""
    table = found.table
    parts: list[RenderableType] = [_about(found, numbers), Text(""), _indexes(found, numbers)]
    if table.foreign_keys:
        parts += [Text(""), _foreign_keys(table)]
    parts += [Text(""), _columns(table, numbers)]
    if found.symptoms:
        parts.append(Text(""))
        for entry in found.symptoms:
            parts.append(Text.assemble(f"{entry.id:<4} ", (entry.symptom.name, "bold")))
            parts.append(Hanging(" " * 5, in_words(entry.symptom.summary, numbers)))
    return Group(*parts)


def _about(found: TableReport, numbers: Numbers) -> RenderableType:
    table = found.table
    reads, writes = table.reads, table.writes
    whole = table.size_bytes + table.index_bytes + table.overflow_bytes
    needed = found.pages_needed
    full = "" if needed is None else f"; its rows would fill about {numbers.whole(needed)}"
    read_rows = reads.rows_by_full_scan + reads.rows_by_index
    written = writes.inserted + writes.updated + writes.deleted
    since = "" if table.counted_since is None else f" since {_moment(table.counted_since)}"
    in_page = (
        f", {numbers.share(writes.updated_in_page / writes.updated)} of them within their page"
        if writes.updated
        else ""
    )
    partitions = f", of {numbers.count(table.partitions, 'partitions')}" if table.partitions else ""
    return labelled(
        ("table", f"{table.name}, {table.kind}{partitions}"),
        ("rows", f"{numbers.whole(table.rows)} (estimated, as the planner counts them now)"),
        (
            "size",
            f"{numbers.size(table.size_bytes)} in {numbers.whole(table.pages)} pages{full}; "
            f"indexes {numbers.size(table.index_bytes)}, long values "
            f"{numbers.size(table.overflow_bytes)}, {numbers.size(whole)} in all",
        ),
        ("counters", "" if table.counted else "none: this server counts neither reads nor writes"),
        (
            "read",
            f"{numbers.whole(reads.full_scans)} full scans "
            f"({numbers.whole(reads.rows_by_full_scan)} rows), "
            f"{numbers.whole(reads.index_scans)} index scans "
            f"({numbers.whole(reads.rows_by_index)} rows){since}"
            if table.counted
            else "",
        ),
        (
            "written",
            f"{numbers.whole(writes.inserted)} rows inserted, {numbers.whole(writes.updated)} "
            f"updated{in_page}, {numbers.whole(writes.deleted)} deleted{since}; "
            f"{_mix(read_rows, written, numbers)}"
            if table.counted
            else "",
        ),
        *_of_heap(table.heap, numbers),
        ("statistics", _age(table.analyzed_at) + _changes(table, numbers)),
    )  # fmt: skip


def _of_heap(heap: HeapFacts | None, numbers: Numbers) -> Iterator[tuple[str, str]]:
    if heap is not None:
        yield "dead rows", f"{numbers.whole(heap.dead_rows)} (estimated by the server)"
        visible = numbers.share(heap.all_visible_share)
        seen = f"{visible} of the pages need no look for an index-only scan"
        yield "vacuum", f"{_age(heap.vacuumed_at)}; {seen}"


def _mix(read: int, written: int, numbers: Numbers) -> str:
    if not written:
        return "only read"
    return (
        f"{numbers.digits(read / written)} rows read for each written" if read else "only written"
    )


def _age(moment: datetime | None) -> str:
    return "never" if moment is None else _moment(moment)


def _changes(table: TableFacts, numbers: Numbers) -> str:
    changed = table.changes_since_analyze
    if changed is None:
        return ""
    share = f", {numbers.share(changed / table.rows)}" if table.rows else ""
    return f"; {numbers.whole(changed)} rows changed since{share}"


def _moment(moment: datetime) -> str:
    return f"{moment:%Y-%m-%d %H:%M}"


def _indexes(found: TableReport, numbers: Numbers) -> RenderableType:
    if not found.table.indexes:
        return Text("No index.")
    table = plain_table(
        ("index", "fixed"), ("on", "left"), ("size", "right"), ("used", "right"), ("", "left")
    )
    for index in sorted(found.table.indexes, key=lambda each: each.name):
        used = "unknown" if index.scans is None else f"{numbers.whole(index.scans)} ×"
        table.add_row(
            index.name, Text(index_words(index)), numbers.size(index.size_bytes), used,
            Text(_remark(found, index)),
        )  # fmt: skip
    return table


def index_words(index: IndexFacts) -> str:
    """What an index is on: method unless b-tree, keys, included columns, condition."""
    keys = ", ".join(
        " ".join(
            part
            for part in (
                key.column or key.expression,
                f'collate "{key.collation}"' if key.collation else "",
                key.operator_class,
                "desc" if key.descending else "",
            )
            if part
        )
        for key in index.keys
    )
    words = f"({keys})" if index.method == IndexMethod.SORTED else f"{index.method} ({keys})"
    if index.included:
        words += f" with {', '.join(index.included)}"
    if index.predicate:
        words += f" where {plainly(index.predicate)}"
    return words


def _remark(found: TableReport, index: IndexFacts) -> str:
    parts = []
    if index.primary:
        parts.append("primary key")
    elif index.unique:
        parts.append("unique")
    if not index.valid:
        parts.append("invalid: kept up, never used")
    if index.name in found.merged:
        parts.append(f"{found.merged[index.name]} serves all it serves")
    if index.last_scan is not None:
        parts.append(f"last used {_moment(index.last_scan)}")
    return ", ".join(parts)


def _foreign_keys(table: TableFacts) -> RenderableType:
    shown = plain_table(("refers to", "fixed"), ("by", "left"), ("on delete", "left"))
    for key in table.foreign_keys:
        columns = ", ".join(key.refers_to_columns)
        shown.add_row(f"{key.refers_to} ({columns})", ", ".join(key.columns), key.on_delete)
    return shown


def _columns(table: TableFacts, numbers: Numbers) -> RenderableType:
    shown = plain_table(
        ("column", "fixed"), ("type", "left"), ("null", "right"), ("distinct", "right"),
        ("commonest", "right"), ("width", "right"), ("in order", "right"),
    )  # fmt: skip
    for column in sorted(table.columns.values(), key=lambda each: each.position):
        distinct = column.distinct_values(table.rows)
        shown.add_row(
            column.name,
            Text(column.type_name),
            _share(column.null_share, numbers),
            "unknown" if distinct is None else numbers.whole(distinct),
            _share(column.top_share, numbers) if column.distinct is not None else "unknown",
            "unknown" if column.mean_width_bytes is None else f"{column.mean_width_bytes} B",
            "unknown" if column.correlation is None else numbers.fixed(column.correlation, 2),
        )
    return shown


def _share(share: float | None, numbers: Numbers) -> str:
    return "–" if share is None else numbers.share(share)


def column_view(found: ColumnReport, numbers: Numbers) -> RenderableType:
    """A column's statistics, its values as bars, and the values asked for."""
    column = found.column
    parts: list[RenderableType] = [_column_about(found, numbers)]
    if column.distinct is None:
        parts.append(Text(f"Gather statistics with  {found.gather}"))
    if found.values.common:
        parts += [Text(""), _common(found, numbers)]
    spread = spread_of(column, found.values)
    if spread.bins:
        parts += [Text(""), _histogram(column, spread, found.asked, numbers)]
    if found.asked:
        parts += [Text(""), _asked(found, numbers)]
    return Group(*parts)


def _column_about(found: ColumnReport, numbers: Numbers) -> RenderableType:
    table, column, counts = found.table, found.column, found.counts
    distinct = column.distinct_values(table.rows)
    listed = f"{column.common_count} listed of at most {column.target}" if column.target else ""
    null = (
        "unknown"
        if column.null_share is None
        else f"{numbers.share(column.null_share)} (estimated)"
    )
    if counts is not None:
        null += f", {numbers.share(counts.nulls / counts.rows) if counts.rows else '0 %'} (counted)"
    values = "unknown" if distinct is None else f"{numbers.whole(distinct)} (estimated)"
    if counts is not None:
        values += f", {numbers.whole(counts.distinct)} (counted)"
    rows = f"{numbers.whole(table.rows)} (estimated)"
    if counts is not None:
        rows += f", {numbers.whole(counts.rows)} (counted)"
    return labelled(
        (
            "column",
            f"{table.name}.{column.name}, {column.type_name}"
            + (", not null" if column.not_null else ""),
        ),
        ("statistics", _age(table.analyzed_at) + _changes(table, numbers)),
        ("rows", rows),
        ("null", null),
        ("distinct", values),
        (
            "common",
            f"{listed}; together {numbers.share(column.common_share)} of the rows"
            if listed and column.common_count
            else "none stands out",
        ),
        ("in order", _correlation(column, numbers)),
    )


def _correlation(column: ColumnFacts, numbers: Numbers) -> str:
    if column.correlation is None:
        return "unknown"
    strength = abs(column.correlation)
    words = (
        "rows stand in the order of its values" if strength > 0.9
        else "rows stand roughly in the order of its values" if strength > 0.5
        else "rows with near values lie scattered over the table"
    )  # fmt: skip
    return f"correlation {numbers.fixed(column.correlation, 2)}: {words}"


def _common(found: ColumnReport, numbers: Numbers) -> RenderableType:
    counted = dict(found.counts.common) if found.counts is not None else {}
    headings = [("common value", "left"), ("estimated", "right"), ("", "fixed")]
    if found.counts is not None:
        headings.insert(2, ("counted", "right"))
    table = plain_table(*headings)
    most = found.values.common[0][1]
    for value, share in found.values.common[:MOST_VALUES]:
        cells: list[str | Text] = [Text(_short(value)), numbers.share(share)]
        if found.counts is not None:
            rows = counted.get(value)
            cells.append("–" if rows is None else numbers.share(rows / max(found.counts.rows, 1)))
        table.add_row(*cells, bar(share / most, BAR_WIDTH))
    left = len(found.values.common) - MOST_VALUES
    if left > 0:
        rest = sum(share for _, share in found.values.common[MOST_VALUES:])
        cells = [f"{numbers.whole(left)} more", numbers.share(rest)]
        table.add_row(*cells, *([""] if found.counts is not None else []), "")
    return table


def _histogram(
    column: ColumnFacts, spread: Spread, asked: tuple[AskedValue, ...], numbers: Numbers
) -> RenderableType:
    rest = numbers.share(rest_share(column))
    which = "all other values" if column.common_count else "values"
    words = f"{which}, {rest} of the rows"
    if not spread.even_width:
        words += ", in tenths of these rows"
    table = plain_table((words, "left"), ("estimated", "right"), ("", "fixed"), ("", "left"))
    most = max(each.share for each in spread.bins) or 1.0
    marked = _marks(spread, asked)
    for number, each in enumerate(spread.bins):
        table.add_row(
            Text(f"{_short(each.low)} … {_short(each.high)}"),
            numbers.share(each.share),
            bar(each.share / most, BAR_WIDTH) if spread.even_width else "",
            Text("← " + ", ".join(marked[number]) if number in marked else ""),
        )
    return table


def _marks(spread: Spread, asked: tuple[AskedValue, ...]) -> dict[int, list[str]]:
    """The bins in which the values asked for lie, by their number."""
    whole = sum(each.share for each in spread.bins) or 1.0
    found: dict[int, list[str]] = {}
    for each in asked:
        if each.place.kind is not PlaceKind.INSIDE or each.place.share is None:
            continue
        below = 0.0
        for number, interval in enumerate(spread.bins):
            below += interval.share / whole
            if each.place.share <= below + 1e-9:
                found.setdefault(number, []).append(_short(each.value))
                break
    return found


def _asked(found: ColumnReport, numbers: Numbers) -> RenderableType:
    counted = any(each.rows_counted is not None for each in found.asked)
    headings = [("asked for", "fixed"), ("where it falls", "left"), ("estimated", "right")]
    if counted:
        headings += [("counted", "right"), ("", "left")]
    table = plain_table(*headings)
    for each in found.asked:
        cells: list[str | Text] = [
            Text(plainly(each.condition)), Text(place_words(each, numbers)),
            "unknown" if each.rows_estimated is None else numbers.whole(each.rows_estimated),
        ]  # fmt: skip
        if counted:
            cells += [numbers.whole(each.rows_counted), _off(each, numbers)]
        table.add_row(*cells)
    return table


def _off(each: AskedValue, numbers: Numbers) -> str:
    if each.rows_counted is None or each.rows_estimated is None:
        return ""
    ratio = max(each.rows_counted, 0.5) / max(each.rows_estimated, 0.5)
    if 0.5 <= ratio <= 2:
        return "about right"
    more = ratio > 1
    return f"{numbers.digits(ratio if more else 1 / ratio)} × {'more' if more else 'fewer'}"


def place_words(each: AskedValue, numbers: Numbers) -> str:
    """Where a value falls, in words."""
    kind, share = each.place.kind, each.place.share
    if kind is PlaceKind.LISTED:
        return f"common: {numbers.share(share or 0.0)} of the rows"
    if kind is PlaceKind.INSIDE:
        return f"{numbers.share(share or 0.0)} of the others lie below"
    if kind is PlaceKind.BELOW:
        return "before the first known value"
    if kind is PlaceKind.ABOVE:
        return "behind the last known value"
    return "not known to the statistics"


def _short(value: str) -> str:
    return value if len(value) <= 40 else value[:39] + "…"
