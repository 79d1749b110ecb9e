"""Texts that try to do more than be read; each class of attack several times over.

`{victim}` stands for the process number of a session that must survive, `{marks}` for a folder
in which no file may appear.
"""

from __future__ import annotations

DROP = "DROP TABLE precious"

# More statements than one, hidden from whoever reads by other rules than the server's.
SEVERAL = {
    "plain": f"SELECT 1; {DROP}",
    "comment ended by a carriage return": f"SELECT 1 --\r; {DROP}",
    "the same with the session set to write": "SELECT 1 --\r; SET default_transaction_read_only=off;"
    f" COMMIT; {DROP}",
    "commit in front": f"SELECT 1 --\r; COMMIT; {DROP}; SELECT 2",
    "string that goes on in the next line": f"SELECT 'a'\n'b\\'; {DROP}; --'",
    "escape string that goes on": f"SELECT E'a'\n'\\'; {DROP}; --'",
    "escape string with a quote": f"SELECT E'\\'; {DROP}; --'",
    "backslash as if strings escaped": f"SELECT '\\'; {DROP}; --'",
    "dollar quote that is none": f"SELECT a$x$, 1 FROM (SELECT 1 AS a$x$) t; {DROP}; --$x$",
    "dollar quote with a sign in it": f"SELECT $a$ $b$ $a$; {DROP}; --$b$",
    "nested comment": f"SELECT 1 /* /* */ */; {DROP}; /* */",
    "comment that seems nested": f"SELECT 1 /* /*/ */ */; {DROP}; --*/",
    "unicode escape": f"SELECT U&'\\0027; {DROP}; --'",
    "unicode name": f'SELECT 1 AS U&"\\0022"; {DROP}; --"',
    "quoted name with a quote": f'SELECT 1 AS "a""; --"; {DROP}; --"',
    "vertical tab and form feed": f"SELECT 1\x0b;\x0c{DROP}",
    "semicolons only between": f";;SELECT 1;;{DROP};;",
    "null of another alphabet": f"SELECT 1 --\u2028; {DROP}",
    "no-break space": f"SELECT\u00a01; {DROP}",
    "a rule's semicolon": "SELECT 1; CREATE RULE r AS ON INSERT TO precious DO ALSO "
    "(DELETE FROM precious; DELETE FROM precious)",
    "placeholder": f"SELECT * FROM precious WHERE id = $1 --\r; {DROP}",
    "placeholder and string": f"SELECT $1 || E'\\'; {DROP}; --'",
    "explain ends": f"1) SELECT 1; {DROP}; --",
    "commit for a script": "SELECT 1; COMMIT; DROP TABLE precious",
}

# One statement that is another one than it seems, or ends what it is run in.
DISGUISED = {
    "commit behind a comment": "--\rCOMMIT /*\nSELECT 1 */",
    "commit and chain": "--\rCOMMIT AND CHAIN /*\nSELECT 1 */",
    "rollback to our savepoint": "--\rROLLBACK TO humble_made /*\nSELECT 1 */",
    "drop behind a comment": "--\rDROP TABLE precious /*\nSELECT 1 */",
    "drop in a nested comment": "/* /* */ SELECT 1 --*/\nDROP TABLE precious",
    "select into": "SELECT * INTO taken FROM precious",
    "create as behind with": "WITH x AS (SELECT 1) SELECT * INTO taken FROM x",
    "delete in a with": "WITH gone AS (DELETE FROM precious RETURNING *) SELECT count(*) FROM gone",
    "explain analyze": "EXPLAIN ANALYZE DELETE FROM precious",
    "do": "DO $$ BEGIN DELETE FROM precious; END $$",
    "copy to a program": "COPY (SELECT 1) TO PROGRAM 'touch {marks}/copied'",
    "copy behind a comment": "--\rCOPY (SELECT 1) TO PROGRAM 'touch {marks}/copied' /*\nSELECT 1 */",
    "copy to a file": "COPY precious TO '{marks}/precious'",
    "copy in brackets": "(SELECT 1) UNION SELECT 2; COPY (SELECT 1) TO PROGRAM 'touch {marks}/c'",
    "set the session": "SET SESSION CHARACTERISTICS AS TRANSACTION READ WRITE",
    "set the role": "ALTER ROLE humble SET work_mem = '64kB'",
    "system": "ALTER SYSTEM SET work_mem = '64kB'",
    "notify": "NOTIFY news, 'told'",
    "prepare": "PREPARE humble_generic AS DELETE FROM precious",
    "declare": "DECLARE c CURSOR WITH HOLD FOR SELECT app.trace('held') FROM precious",
    "refresh": "CREATE TABLE taken AS SELECT * FROM precious",
    "for update": "SELECT * FROM precious WHERE id = 1 FOR UPDATE",
    "vacuum": "VACUUM FULL precious",
    "truncate": "TRUNCATE precious",
}

# One statement that reads, and calls what acts.
CALLING = {
    "kill": "SELECT pg_terminate_backend({victim})",
    "kill from a table": "SELECT pg_terminate_backend({victim}) FROM precious WHERE id = 5",
    "cancel quoted": 'SELECT "pg_terminate_backend"({victim})',
    "kill in unicode": 'SELECT U&"\\0070g_terminate_backend"({victim})',
    "kill in unicode of another mark": "SELECT U&\"!0070g_terminate_backend\" UESCAPE '!' ({victim})",
    "kill behind comments": "SELECT pg_terminate_backend/*a*//*b*/ --\n ({victim})",
    "kill qualified": "SELECT pg_catalog . pg_terminate_backend ({victim})",
    "kill behind a name like a string": 'SELECT \'"\', pg_terminate_backend("(") FROM '
    '(SELECT {victim} AS "(") t',
    "kill in capitals": "SELECT PG_TERMINATE_BACKEND({victim})",
    "kill as a table": "SELECT * FROM pg_terminate_backend({victim})",
    "kill in a lateral": "SELECT * FROM precious p, LATERAL pg_terminate_backend({victim}) WHERE p.id=1",
    "kill in order by": "SELECT 1 ORDER BY pg_terminate_backend({victim})",
    "kill in limit": "SELECT 1 LIMIT (pg_terminate_backend({victim}))::int",
    "kill in values": "VALUES (pg_terminate_backend({victim}))",
    "kill through a view": "SELECT * FROM app.killing WHERE id = 1",
    "kill in an aggregate's filter": "SELECT count(*) FILTER (WHERE pg_terminate_backend({victim})) "
    "FROM precious",
    "kill in a case": "SELECT CASE WHEN id > 0 THEN pg_terminate_backend({victim}) END FROM precious",
    "dynamic": "SELECT query_to_xml('SELECT pg_terminate_backend({victim})', true, true, '')",
    "a whole schema": "SELECT schema_to_xml('app', true, true, '')",
    "statistics of texts": "SELECT * FROM ts_stat('SELECT to_tsvector(app.bump()::text)')",
    "sequence": "SELECT nextval('numbers')",
    "set a sequence": "SELECT setval('numbers', 77)",
    "notify": "SELECT pg_notify('news', 'told')",
    "lock": "SELECT pg_advisory_lock(42)",
    "lock of a row": "SELECT pg_advisory_lock(id) FROM precious WHERE id < 3",
    "try a lock": "SELECT pg_try_advisory_lock(43)",
    "large object": "SELECT lo_create(0)",
    "large object from bytes": "SELECT lo_from_bytea(0, 'x')",
    "export": "SELECT lo_export(lo_from_bytea(0, 'x'), '{marks}/exported')",
    "read a file": "SELECT pg_read_file('/etc/passwd')",
    "list a folder": "SELECT pg_ls_dir('/')",
    "reload": "SELECT pg_reload_conf()",
    "rotate": "SELECT pg_rotate_logfile()",
    "message": "SELECT pg_logical_emit_message(false, 'a', 'b')",
    "snapshot": "SELECT pg_export_snapshot()",
    "origin": "SELECT pg_replication_origin_create('o')",
    "set the session to write": "SELECT set_config('default_transaction_read_only', 'off', false)",
    "set the transaction to write": "SELECT set_config('transaction_read_only', 'off', true)",
    "set the role": "SELECT set_config('role', 'postgres', false)",
    "dblink": "SELECT dblink_connect('dbname=guarded')",
    "dblink that runs": "SELECT * FROM dblink_exec('dbname=guarded', 'DROP TABLE precious') AS x",
    "user's function": "SELECT app.bump()",
    "user's function of SQL": "SELECT app.trace('direct')",
    "view": "SELECT * FROM app.bumping WHERE id = 1",
    "view of a view": "SELECT count(*) FROM app.above WHERE done = 1",
    "table command": "TABLE app.bumping",
    "row notation": "SELECT p.row_bump FROM (SELECT precious AS p FROM precious) x, precious p",
    "row function": "SELECT app.row_bump(p) FROM precious p WHERE id = 1",
    "operator": "SELECT 1 |+| 'a'",
    "operator spelt out": "SELECT 1 OPERATOR(public.|+|) 'a'",
    "cast": "SELECT CAST(1 AS app.pair)",
    "cast written short": "SELECT (1)::app.pair",
    "cast by name": "SELECT app.as_pair(1)",
    "domain": "SELECT 'x'::app.checked_text",
    "aggregate": "SELECT app.summed(id) FROM precious",
    "foreign table": "SELECT * FROM away",
    "foreign partition": "SELECT * FROM parted",
    "policy": "SELECT count(*) FROM guarded_rows",
    "called while planning": "SELECT app.lying(1)",
    "called while planning, in a condition": "SELECT * FROM precious WHERE id = app.lying(3)",
    "called while planning, by SQL": "SELECT * FROM precious WHERE id = app.lying_sql(3)",
    "called for an estimate": "SELECT * FROM precious WHERE id < app.lying(3) AND note LIKE 'n%'",
    "opaque": "SELECT app.opaque(id) FROM precious",
}

# Statements that write are run and taken back when the user says so; these act besides.
WRITING = {
    "trigger": "UPDATE triggered SET note = 'y' WHERE id = 1",
    "default that counts": "INSERT INTO triggered (note) VALUES ('y')",
    "with a call": "UPDATE precious SET amount = app.bump() WHERE id = 1",
    "returning": "DELETE FROM precious WHERE id = 1 RETURNING pg_notify('news', 'told')",
}

# What nobody should be asked about.
HARMLESS = (
    "SELECT * FROM precious WHERE id = 7",
    "SELECT random(), clock_timestamp(), gen_random_uuid(), now() FROM precious LIMIT 1",
    "SELECT pg_total_relation_size('precious'), pg_sleep(0)",
    "SELECT app.harmless(id) FROM precious WHERE id = 1",
    "SELECT nextval FROM (SELECT 1 AS nextval) t WHERE nextval IN (1)",
    "SELECT count(*) FROM pg_stat_activity",
    "SELECT string_agg(note, ',' ORDER BY id) FILTER (WHERE id > 5) FROM precious",
    "WITH t AS (SELECT id, row_number() OVER (PARTITION BY keeper_id) AS n FROM precious) "
    "SELECT * FROM t WHERE n < 3",
)
