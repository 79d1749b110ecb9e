"""Words that one of the members reserves, and the standard does not."""

from __future__ import annotations

RESERVED = frozenset(
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
