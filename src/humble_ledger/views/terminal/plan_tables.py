"""What surrounds a plan: its work as a whole, each table, its indexes, columns and joins."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime

from rich.console import Group, RenderableType

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.plans.serving import IndexService, Service, index_services
from humble_ledger.core.plans.tables import (
    TableAccount,
    Work,
    join_graph,
    table_accounts,
    whole_work,
)
from humble_ledger.core.results.plans import Granted, PlanSurroundings
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, plain_table
from humble_ledger.views.terminal.text import Text

_ROUNDING = 1e-4
_TELLING_WORK = 1.2  # below it parallel workers hardly count


def plan_tables(found: PlanSurroundings, numbers: Numbers) -> RenderableType:
    """The whole, a line for each table, then each table with its indexes and columns."""
    plan = found.plan.plan
    accounts = table_accounts(plan)
    parts: list[RenderableType] = [_whole(plan, found.memory, numbers)]
    if accounts:
        said = "rows and pages over all scans; part: rows read of those in the table"
        parts += [Text(""), _lines(found, accounts, numbers)]
        parts += [Text(said, style="bright_black")] if plan.steps_measured else []
    for account in accounts:
        parts += [Text(""), _table(plan, account, found.tables.get(account.name), numbers)]
    parts += [Text(line) for line in _partitions(found, accounts, numbers)]
    joins = _joins(plan)
    if joins is not None:
        parts += [Text(""), joins]
    if found.server is None:
        parts += [Text(""), Text("Sizes, indexes and statistics are unknown without a server.")]
    return Group(*parts)


def _whole(plan: Plan, memory: Granted | None, numbers: Numbers) -> RenderableType:
    work = whole_work(plan)
    return labelled(
        ("time", _work(work, numbers)),
        ("memory", _memory(work, memory, numbers) if plan.steps_measured else ""),
        ("spilled", _spilled(work, numbers) if plan.steps_measured else ""),
        ("compiling", f"{numbers.ms(plan.compile_ms)} (measured)" if plan.compile_ms else ""),
    )


def _work(work: Work, numbers: Numbers) -> str:
    if work.elapsed_ms is None or work.work_ms is None:
        return "unknown: the plan was not measured"
    elapsed = numbers.ms(work.elapsed_ms)
    if work.processes <= 1 or work.work_ms < work.elapsed_ms * _TELLING_WORK:
        return f"{elapsed} in one process (measured)"
    processes = numbers.whole(work.processes)
    return f"{numbers.ms(work.work_ms)} of work in {elapsed}: {processes} processes (measured)"


def _memory(work: Work, granted: Granted | None, numbers: Numbers) -> str:
    used = f"{numbers.size(work.memory_bytes)} at most in one step" if work.memory_bytes else ""
    share = (
        f"{numbers.size(granted.size_bytes)} granted to each sort ({granted.setting})"
        if granted is not None else ""
    )  # fmt: skip
    return "; ".join(filter(None, (used or "no step said how much it took", share)))


def _spilled(work: Work, numbers: Numbers) -> str:
    if not work.spilled_bytes and not work.temp_pages:
        return "nothing"
    return (
        f"{numbers.size(work.spilled_bytes)} to temporary files, "
        f"{numbers.whole(work.temp_pages)} pages written"
    )


def _lines(
    found: PlanSurroundings, accounts: list[TableAccount], numbers: Numbers
) -> RenderableType:
    measured = found.plan.plan.steps_measured
    columns = [("table", "left"), ("expected", "right")]
    if measured:
        columns += [
            ("read", "right"), ("kept", "right"), ("scans", "right"), ("part", "right"),
            ("pages", "right"), ("self ms", "right"),
        ]  # fmt: skip
    table = plain_table(*columns, ("share", "right"))
    for each in accounts:
        facts = found.tables.get(each.name)
        cells = [_named(each), numbers.rows(each.rows_expected)]
        if measured:
            cells += [
                numbers.rows(_read(each, facts)), numbers.rows(each.rows_kept),
                numbers.rows(each.scans), _part(each, facts, numbers),
                _touched(each, numbers), numbers.figure(each.self_ms),
            ]  # fmt: skip
        table.add_row(*cells, numbers.percent(each.share))
    return table


def _read(account: TableAccount, facts: TableFacts | None) -> float | None:
    """The rows read; the server's averages come rounded, and a whole table is a whole table."""
    read = account.rows_read
    if read is None or facts is None or facts.rows <= 0:
        return read
    whole = facts.rows * round(read / facts.rows)
    return whole if whole and abs(read - whole) < _ROUNDING * whole else read


def _partitions(
    found: PlanSurroundings, accounts: list[TableAccount], numbers: Numbers
) -> Iterator[str]:
    """How many partitions of each table were ruled out, and when."""
    groups: dict[str, list[tuple[TableAccount, TableFacts]]] = {}
    for account in accounts:
        facts = found.tables.get(account.name)
        if facts is not None and facts.partition_of:
            groups.setdefault(facts.partition_of, []).append((account, facts))
    for name, parts in groups.items():
        planned, all_of_them = len(parts), parts[0][1].partitions
        line = f"\n{name}: {planned} of {numbers.count(all_of_them, 'partitions')} in the plan"
        if planned < all_of_them:
            line += ", the others ruled out when it was planned or begun"
        idle = sum(1 for account, _ in parts if account.scans == 0)
        if idle:
            line += f"; {numbers.whole(idle)} of these never ran"
        yield line + "."


def _touched(account: TableAccount, numbers: Numbers) -> str:
    if account.pages_cached is None or account.pages_read is None:
        return "–"
    return numbers.whole(account.pages_cached + account.pages_read)


def _named(account: TableAccount) -> str:
    aliases = [alias for alias in account.aliases if alias != account.name.name]
    return f"{account.name} ({', '.join(aliases)})" if aliases else str(account.name)


def _part(account: TableAccount, facts: TableFacts | None, numbers: Numbers) -> str:
    """The rows read, for all rows of the table; times when it was more than all."""
    if facts is None or account.rows_read is None or facts.rows <= 0:
        return "unknown"
    part = account.rows_read / facts.rows
    return numbers.percent(part) if part < 1.995 else numbers.times(part)


def _table(
    plan: Plan, account: TableAccount, facts: TableFacts | None, numbers: Numbers
) -> RenderableType:
    pairs = [(str(account.name), _size(facts, numbers) if facts is not None else "size unknown")]
    if facts is not None:
        pairs.append(("  statistics", _statistics(facts, numbers)))
        for n, each in enumerate(index_services(plan, facts, account)):
            pairs.append(("" if n else "  indexes", _index(each)))
    if account.pages_cached is not None:
        cached, read = numbers.whole(account.pages_cached), numbers.whole(account.pages_read)
        pairs.append(("  pages", f"{cached} cached, {read} read (measured)"))
    columns = "; ".join(
        f"{column}: {', '.join(places)}" for column, places in account.columns.items()
    )
    pairs.append(("  columns", columns))
    return _lined(pairs)


def _lined(pairs: list[tuple[str, str]]) -> RenderableType:
    """Like `labelled`, where a line may go on without a label."""
    return labelled(*((label or " ", value) for label, value in pairs))


def _size(facts: TableFacts, numbers: Numbers) -> str:
    rows = numbers.whole(facts.rows)
    return f"{facts.kind} of {rows} rows (estimated), {numbers.size(facts.size_bytes)}"


def _statistics(facts: TableFacts, numbers: Numbers) -> str:
    if facts.analyzed_at is None:
        return "never gathered"
    age = (datetime.now(UTC) - facts.analyzed_at.astimezone(UTC)).total_seconds()
    changes = facts.changes_since_analyze
    since = "" if changes is None else f"; {numbers.whole(changes)} rows changed since"
    return f"gathered {_ago(age, numbers)} ago{since}"


def _ago(seconds: float, numbers: Numbers) -> str:
    for unit, length in (("days", 86_400.0), ("hours", 3_600.0), ("minutes", 60.0)):
        if seconds >= length:
            return numbers.count(int(seconds / length), unit)
    return "less than a minute"


def _index(found: IndexService) -> str:
    index = found.index
    keys = ", ".join(key.column or key.expression for key in index.keys)
    name = f"{index.name} ({keys})"
    every = found.keys_led == len(index.keys)
    count = "by its key" if every else f"by {found.keys_led} of {len(index.keys)} keys"
    if found.service is Service.USED:
        steps = ", ".join(str(step) for step in found.steps)
        led = count if found.keys_led else "for its order or its content"
        return f"{name}: used by step {steps}, {led}"
    if found.service is Service.COULD:
        return f"{name}: could serve {count}"
    return f"{name}: {found.service.value}"


def _joins(plan: Plan) -> RenderableType | None:
    graph = join_graph(plan)
    if len(graph.relations) < 2:
        return None
    return _lined(list(_ties(plan)))


def _ties(plan: Plan) -> Iterator[tuple[str, str]]:
    graph = join_graph(plan)
    width = max((len(f"{t.one} ── {t.other}") for t in graph.ties), default=0)
    for n, tie in enumerate(graph.ties):
        pair = f"{tie.one} ── {tie.other}".ljust(width)
        yield ("" if n else "joins"), f"{pair}  {tie.condition}  (step {tie.step}, {tie.method})"
    for groups in graph.apart:
        told = " and ".join(" + ".join(group) for group in groups)
        yield "untied", f"{told}: no condition in the plan ties these to each other"
