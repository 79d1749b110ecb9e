"""This family's SQL; see `core.dialect`."""

from __future__ import annotations

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.schema.quoting import Quoting
from humble_ledger.engines.mysql.expressions import as_key
from humble_ledger.engines.mysql.lexing import readable
from humble_ledger.engines.mysql.reserved import RESERVED
from humble_ledger.engines.mysql.sql_dialect import NAME

FAMILY = Dialect(
    parser=NAME,
    methods=frozenset((IndexMethod.SORTED,)),
    includes=False,
    most_key_bytes=3072,  # InnoDB, with rows of the usual format
    quoting=Quoting("`", RESERVED),
    online_behind="ALGORITHM=INPLACE LOCK=NONE",
    expression_behind="ALGORITHM=INPLACE LOCK=SHARED",  # it adds a hidden column with the index
    online_drop="ALTER TABLE {table} DROP INDEX {name}, ALGORITHM=INPLACE, LOCK=NONE",
    online_costs="it waits for transactions that have the table open, at its beginning and its end",
    # Whoever waits for the table keeps all others waiting behind it.
    script_head="SET SESSION lock_wait_timeout = 2;\n",
    setting_tried="SET SESSION {name} = {value}",
    setting_back="SET SESSION {name} = DEFAULT",
    setting_example="join_buffer_size=8388608",
    memory_in_bytes=True,
    bare_numbers=True,
    analyze="ANALYZE TABLE {table}",
    setting_kept="SET GLOBAL {name} = {value}",
    setting_undone="SET GLOBAL {name} = DEFAULT",
    readable=readable,
    index_of_table=True,
    nulls_lowest=True,
    beginning="{column}({length})",
    key_expression=as_key,
    # Only a constant of the same kind of result is looked up (sql_optimizer, get_gc_for_expr).
    keys_tell_kinds=True,
)
