"""This family's SQL; see `core.dialect`."""

from __future__ import annotations

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.schema.quoting import Quoting
from humble_ledger.engines.mysql.sql_dialect import NAME

# Reserved by one of the members, and not by the standard.
_RESERVED = frozenset(
    """accessible add before bigint blob by call cascade change char character condition continue
    convert cume_dist cursor database databases dec decimal declare delayed delete dense_rank
    describe deterministic distinctrow div double drop dual each elseif empty enclosed escaped exit
    explain first_value float force fulltext function generated get grouping high_priority if ignore
    index infile inout insensitive insert int integer json_table key keys kill lag last_value lead
    leave linear lines load lock long longblob longtext loop low_priority match maxvalue mediumblob
    mediumint mediumtext mod nth_value ntile of optimize option optionally out outfile percent_rank
    period precision procedure purge range rank read reads real recursive regexp release rename
    repeat replace require resignal restrict return revoke rlike row_number schema schemas separator
    show signal smallint spatial sql ssl starting stored straight_join system terminated tinyblob
    tinyint tinytext trigger undo unlock unsigned update usage use utc_date utc_time utc_timestamp
    values varbinary varchar varying virtual while write xor year_month zerofill""".split()
)

FAMILY = Dialect(
    parser=NAME,
    methods=frozenset((IndexMethod.SORTED,)),
    includes=False,
    quoting=Quoting("`", _RESERVED),
    online_behind="ALGORITHM=INPLACE LOCK=NONE",
    online_costs="it waits for transactions that have the table open, at its beginning and its end",
    # Whoever waits for the table keeps all others waiting behind it.
    script_head="SET SESSION lock_wait_timeout = 2;\n",
    setting_tried="SET SESSION {name} = {value}",
    setting_back="SET SESSION {name} = DEFAULT",
    memory_in_bytes=True,
    analyze="ANALYZE TABLE {table}",
    own_statistics=False,
    setting_kept="SET GLOBAL {name} = {value}",
    setting_undone="SET GLOBAL {name} = DEFAULT",
    index_of_table=True,
    nulls_lowest=True,
)
