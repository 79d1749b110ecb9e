"""The server that a copy stands on: programs of the target's series, and its settings."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager, nullcontext, suppress
from dataclasses import dataclass

from humble_ledger.engines.contract import Limits
from humble_ledger.engines.mysql.connection import Connection, Member, connect
from humble_ledger.engines.mysql.hollow.filling import STAGE
from humble_ledger.engines.mysql.hollow.kept import Place, place_for
from humble_ledger.engines.mysql.launcher import (
    MariaCluster,
    MysqlCluster,
    find_mysql_programs,
    find_programs,
)
from humble_ledger.engines.mysql.naming import quoted
from humble_ledger.errors import HumbleError, TargetUnreachable

_COSTS_CHANGED = 110000  # from here on its costs are in milliseconds, and its constants variables
_AT_START = ("innodb_page_size", "lower_case_table_names", "collation_server")
# What a plan depends on; the copy's own sizes of buffers are small.
_PLANNING = (
    "optimizer_switch", "optimizer_prune_level", "optimizer_search_depth",
    "optimizer_use_condition_selectivity", "optimizer_max_sel_arg_weight",
    "optimizer_selectivity_sampling_limit", "optimizer_extra_pruning_depth", "use_stat_tables",
    "eq_range_index_dive_limit", "join_cache_level", "join_buffer_size", "join_buffer_space_limit",
    "sort_buffer_size", "mrr_buffer_size", "tmp_table_size", "max_heap_table_size",
    "max_seeks_for_key", "max_length_for_sort_data", "in_predicate_conversion_threshold",
    "sql_mode", "group_concat_max_len", "max_sort_length",
)  # fmt: skip
_COSTS = "SHOW GLOBAL VARIABLES LIKE 'optimizer\\_%\\_cost'"
_COST_TABLES = (
    (
        "SELECT cost_name, cost_value FROM mysql.server_cost",
        "UPDATE mysql.server_cost SET cost_value = %s WHERE cost_name = %s",
    ),
    (
        "SELECT cost_name, cost_value FROM mysql.engine_cost",
        "UPDATE mysql.engine_cost SET cost_value = %s WHERE cost_name = %s",
    ),
)
_SERVER_MS = 600_000
ROLE = "humble_copy"
SMALL = "humble_small"
OURS = (STAGE, SMALL)  # databases beside the target's: for samples, and for a few rows


@dataclass(frozen=True, slots=True)
class House:
    """A server of ours with an empty database of the target's name.

    What the target says of itself need not be trusted: by ``connection``, and by whoever comes by
    ``url``, nothing can be done outside of the copy. ``owner`` may do anything.
    """

    url: str
    connection: Connection
    owner: Connection
    place: Place | None = None


@contextmanager
def house_for(target: Connection, url: str, database: str, *, keep: bool) -> Iterator[House]:
    """A server like the target's at ``url``, for a copy of this database.

    With ``keep`` it stands in a folder that stays, unless another command is using that.

    Raises:
        HumbleError: there are no programs of that kind here, or they are of another series.
    """
    mariadb = target.member.mariadb
    programs = find_programs() if mariadb else find_mysql_programs()
    _require_series(target.member, programs.version)
    fixed = {name: str(target.one(f"SELECT @@GLOBAL.{name}")) for name in _AT_START}
    settings: dict[str, str] = {
        "innodb_stats_auto_recalc": "0",
        "innodb_buffer_pool_size": "256M",
        **({"innodb_log_file_size": "64M"} if mariadb else {}),
        **fixed,
    }
    made = MariaCluster if mariadb else MysqlCluster
    with (
        place_for(target, url, programs.version, fixed) if keep else nullcontext() as place,
        made(programs, settings, place.folder if place else None) as cluster,
    ):
        limits = Limits(statement_ms=_SERVER_MS)
        own = cluster.url(user=ROLE)
        owner = connect(cluster.url(), limits, read_only=False, database=False)
        with closing(owner):
            _carry_settings(target, owner)
            _make_room(target, owner, database)
            with closing(connect(own, limits, read_only=False, database=False)) as connection:
                connection.do(f"USE {quoted(database)}")
                yield House(own, connection, owner, place)


def _make_room(target: Connection, owner: Connection, database: str) -> None:
    """The database, and a role that may do what it likes there, and nowhere else."""
    charset, collation = target.rows("SELECT @@character_set_database, @@collation_database")[0]
    alike = f"CHARACTER SET {charset} COLLATE {collation}"
    owner.do(f"CREATE DATABASE IF NOT EXISTS {quoted(database)} {alike}")
    owner.do(f"ALTER DATABASE {quoted(database)} {alike}")
    owner.do(f"CREATE USER IF NOT EXISTS {ROLE}@localhost IDENTIFIED BY ''")
    for name in (database, *OURS):
        place = quoted(name).replace("\\", "\\\\").replace("_", "\\_").replace("%", "\\%")
        owner.do(f"GRANT ALL PRIVILEGES ON {place}.* TO {ROLE}@localhost")
    if not owner.member.mariadb:  # which asks for a right to set what only its session knows
        owner.do(f"GRANT SESSION_VARIABLES_ADMIN ON *.* TO {ROLE}@localhost")


def _require_series(member: Member, version: str) -> None:
    """Costs must be reckoned alike: by MariaDB's fixed constants up to 10.11, or one series' own.

    MySQL's are in tables, and carried over; how they are reckoned differs between 8 and 9 at most.
    """
    major, minor, *_ = (int(part) for part in version.split("."))
    if not member.mariadb:
        if member.number // 10_000 != major:
            raise TargetUnreachable(
                f"The MySQL programs here are of version {version}, not {member.version}.",
                "Name the folder of the target's series with HUMBLE_MYSQL_BIN.",
            )
        return
    number = major * 10_000 + minor * 100
    old, ours_old = member.number < _COSTS_CHANGED, number < _COSTS_CHANGED
    if old != ours_old or (not old and member.number // 100 != number // 100):
        raise TargetUnreachable(
            f"The MariaDB programs here are of version {version}, which reckons costs otherwise "
            f"than the target's {member.version}.",
            "Install programs of the target's series, and name them with HUMBLE_MARIADB_BIN.",
        )


def _carry_settings(target: Connection, copy: Connection) -> None:
    values: dict[str, object] = {}
    for name in _PLANNING:
        try:
            values[name] = target.one(f"SELECT @@SESSION.{name}")
        except HumbleError:
            continue  # this version has it not
    if not target.member.mariadb:
        _carry_cost_constants(target, copy)
    elif target.member.number >= _COSTS_CHANGED:
        values.update({str(name): float(value) for name, value in target.rows(_COSTS)})
    set_all(copy, values)


def _carry_cost_constants(target: Connection, copy: Connection) -> None:
    """MySQL keeps them in tables, with a NULL for what is as it came."""
    for asked, change in _COST_TABLES:
        with suppress(HumbleError):  # not everybody may see them
            for name, value in target.rows(asked):
                copy.asked(change, value, name)
            copy.do("FLUSH OPTIMIZER_COSTS")


def set_all(connection: Connection, values: Mapping[str, object]) -> None:
    """Set variables for all sessions to come; those unknown here are left out."""
    for name, value in values.items():
        with suppress(HumbleError):
            connection.asked(f"SET GLOBAL {quoted(name)} = %s", value)
