"""A remedy as a pair of migration scripts: forwards, and back again."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from humble_ledger.core.dialect import Dialect, PartedBuild
from humble_ledger.core.remedies.design import IndexDesign, drop_index_sql, index_place
from humble_ledger.core.remedies.model import Remedy
from humble_ledger.core.remedies.operations import (
    CreateIndex,
    DropIndex,
    RewriteStatement,
    SetSettings,
)
from humble_ledger.core.schema.quoting import fitting_name, identifier, table_identifier

_WORD = re.compile(r"[a-z0-9]+")
_NOTE = "-- Run outside a transaction: an online build cannot be part of one.\n"


@dataclass(frozen=True, slots=True)
class Migration:
    """Two scripts, each runnable as it stands, and a name for their files."""

    name: str
    forward: str
    backward: str
    online: bool = False

    @staticmethod
    def joined(parts: Sequence[Migration], comments: Sequence[str], dialect: Dialect) -> Migration:
        """Several changes as one pair of scripts, with comments on top; undone in reverse."""
        head = "".join(f"-- {line}\n" for comment in comments for line in comment.splitlines())
        online = any(part.online for part in parts)
        head += (_NOTE if online else "") + dialect.script_head
        return Migration(
            "_and_".join(part.name for part in parts)[:80],
            head + "".join(part.forward for part in parts),
            head + "".join(part.backward for part in reversed(parts)),
        )


@dataclass(frozen=True, slots=True)
class Steps:
    """A change for good and its undoing, statement by statement without semicolons."""

    name: str
    forward: tuple[str, ...]
    backward: tuple[str, ...]
    online: bool = False
    note: str = ""

    def written(self) -> Migration:
        """The steps as two scripts."""
        return Migration(
            self.name, self._script(self.forward), self._script(self.backward), self.online
        )

    def _script(self, statements: Sequence[str]) -> str:
        lines = "".join(f"{statement};\n" for statement in statements)
        return self.note + (lines or "-- Nothing to undo.\n")


def index_migration(design: IndexDesign, name: str, dialect: Dialect) -> Migration:
    """Build an index, without blocking writers where the server can, and drop it again."""
    return _index_steps(design, name, dialect).written()


def _index_steps(design: IndexDesign, name: str, dialect: Dialect) -> Steps:
    if design.parts is None:
        note = "-- Writers wait while it is built: its partitions are parted again.\n"
        return Steps(
            name,
            (design.create_sql(name, dialect),),
            (design.drop_sql(name, dialect),),
            note=note,
        )
    if design.parts and dialect.parted is not None:
        return _part_by_part(design, dialect.parted, name, dialect)
    waits = design.waits_for_expression(dialect)
    shown = identifier(name, dialect.quoting)
    after = (dialect.after_build.format(name=shown),) if dialect.after_build else ()
    return Steps(
        name,
        (design.create_sql(name, dialect, online=True), *after),
        (design.drop_sql(name, dialect, online=True),),
        online=dialect.builds_online,
        note="-- Building it keeps writers waiting: it is on an expression.\n" if waits else "",
    )


def _part_by_part(design: IndexDesign, words: PartedBuild, name: str, dialect: Dialect) -> Steps:
    """Online on each partition, and then joined: the server cannot do so in one statement."""
    shown, body = identifier(name, dialect.quoting), design.body_in(dialect)
    whole = table_identifier(design.table, dialect.quoting)
    forward = [words.whole.format(name=shown, table=whole, body=body)]
    of_whole = index_place(design.table, name, dialect)
    for part in design.parts or ():
        own = fitting_name(f"{name}_{part.name}")
        forward.append(replace(design, table=part, parts=()).create_sql(own, dialect, online=True))
        of_part = index_place(part, own, dialect)
        forward.append(words.attached.format(whole=of_whole, part=of_part))
    note = "-- Dropping it makes readers and writers wait a moment: it cannot be done online.\n"
    return Steps(name, tuple(forward), (design.drop_sql(name),), online=True, note=note)


def migration_of(remedy: Remedy, dialect: Dialect) -> Migration:
    """The scripts of any remedy."""
    return steps_of(remedy, dialect).written()


def steps_of(remedy: Remedy, dialect: Dialect) -> Steps:
    """What is run to make a change for good, and to undo it.

    Indexes are built and removed without blocking writers. A setting, tried in a session, is
    for the role that runs the script: nobody else's queries get it.
    """
    match remedy.operation:
        case CreateIndex(design, name):
            return _index_steps(design, name, dialect)
        case DropIndex():
            return _removal_steps(remedy.operation, dialect)
        case SetSettings(settings):
            values = [(name, dialect.setting_value(value)) for name, value in settings]
            return Steps(
                "_and_".join(name for name, _ in values),
                tuple(dialect.setting_kept.format(name=n, value=value) for n, value in values),
                tuple(dialect.setting_undone.format(name=name) for name, _ in values),
            )
        case RewriteStatement():
            note = "-- No change of the database: this is what the application sends from now on.\n"
            return Steps("rewrite", _bare(remedy.apply), _bare(remedy.revert), note=note)
    name = "_".join(_WORD.findall(remedy.summary.lower()))[:60]
    return Steps(name, _bare(remedy.apply), _bare(remedy.revert))


def _bare(statements: Sequence[str]) -> tuple[str, ...]:
    return tuple(statement.rstrip().rstrip(";") for statement in statements)


def _removal_steps(gone: DropIndex, dialect: Dialect) -> Steps:
    online = f" {dialect.online}" if dialect.online else ""
    behind = f" {dialect.online_behind}" if dialect.online_behind else ""
    dropped = drop_index_sql(gone.table, gone.name, dialect, online=True)
    built = gone.definition.replace(" INDEX ", f" INDEX{online} ", 1) + behind
    return Steps(f"remove_{gone.name}", (dropped,), (built,), online=dialect.builds_online)
