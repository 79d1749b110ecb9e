"""A quay office on MariaDB: troubles that only this family of servers has, and their look-alikes.

Written before the rules were tried on them. Names are invented, as is all of the data.
"""

from __future__ import annotations

from benchmarks.grounds.cases import Case

ROWS = 120_000
SCHEMA = f"""
CREATE DATABASE quay CHARACTER SET utf8mb4
CREATE TABLE quay.berth (berth_id INT PRIMARY KEY AUTO_INCREMENT, name VARCHAR(40), side CHAR(1),
  depth DECIMAL(5,2))
INSERT INTO quay.berth SELECT seq, CONCAT('berth ', seq), IF(seq % 2, 'N', 'S'), 4 + seq % 9
  FROM seq_1_to_800
CREATE TABLE quay.vessel (imo VARCHAR(12) PRIMARY KEY, name VARCHAR(60), flag CHAR(2), built YEAR,
  KEY vessel_flag (flag))
INSERT INTO quay.vessel SELECT CONCAT('V', LPAD(seq, 7, '0')), CONCAT('vessel ', seq),
  ELT(1 + seq % 7, 'AA','BB','CC','DD','EE','FF','GG'), 1970 + seq % 50 FROM seq_1_to_9000
CREATE TABLE quay.mooring (mooring_id INT PRIMARY KEY AUTO_INCREMENT, berth_id INT NOT NULL,
  imo VARCHAR(12) NOT NULL, moored_at DATETIME NOT NULL, left_at DATETIME, fee DECIMAL(9,2),
  status VARCHAR(12) NOT NULL, agent VARCHAR(40), remarks TEXT,
  KEY moored (moored_at), KEY by_status (status), KEY by_agent (agent),
  KEY by_agent_start (agent(4)), KEY when_status (moored_at, status),
  KEY berth_twice (berth_id), KEY berth_and_key (berth_id, mooring_id))
INSERT INTO quay.mooring SELECT seq, 1 + seq * 7 % 800, CONCAT('V', LPAD(1 + seq * 13 % 9000, 7, '0')),
  TIMESTAMP('2024-01-01') + INTERVAL seq * 500 SECOND, IF(seq % 9, TIMESTAMP('2024-01-02')
  + INTERVAL seq * 500 SECOND, NULL), seq * 17 % 900000 / 100,
  CASE WHEN seq % 200 = 0 THEN 'disputed' WHEN seq % 3 = 0 THEN 'paid' ELSE 'open' END,
  CONCAT('agent ', seq * 31 % 400), REPEAT(CONCAT('remark ', seq, ' '), 20)
  FROM seq_1_to_{ROWS}
CREATE TABLE quay.crane_log (log_id CHAR(36) PRIMARY KEY, crane INT, at DATETIME, lifted INT,
  shift_code VARCHAR(8) CHARACTER SET latin1, operator VARCHAR(30),
  KEY by_shift (shift_code), KEY by_operator (operator))
INSERT INTO quay.crane_log SELECT UUID(), seq % 12, TIMESTAMP('2025-01-01') + INTERVAL seq * 60 SECOND,
  seq * 11 % 40, CONCAT('s', seq % 5000), CONCAT('op ', seq * 3 % 700) FROM seq_1_to_{ROWS // 2}
CREATE TABLE quay.shift (code VARCHAR(8) CHARACTER SET utf8mb4 PRIMARY KEY, foreman VARCHAR(40))
INSERT INTO quay.shift SELECT CONCAT('s', seq), CONCAT('foreman ', seq % 60) FROM seq_1_to_5000
CREATE TABLE quay.invoice (invoice_id INT PRIMARY KEY AUTO_INCREMENT, mooring_ref VARCHAR(12),
  total DECIMAL(10,2), sent_on DATE, paid TINYINT NOT NULL, KEY by_ref (mooring_ref),
  KEY sent (sent_on, paid))
INSERT INTO quay.invoice SELECT seq, CAST(seq AS CHAR), seq % 5000, DATE('2024-01-01')
  + INTERVAL seq % 700 DAY, seq % 50 > 0 FROM seq_1_to_{ROWS // 2}
CREATE TABLE quay.tide_hour (hour_at DATETIME PRIMARY KEY, level DOUBLE)
INSERT INTO quay.tide_hour SELECT TIMESTAMP('2024-01-01') + INTERVAL seq HOUR, SIN(seq / 6)
  FROM seq_1_to_17000
ANALYZE TABLE quay.berth, quay.vessel, quay.mooring, quay.crane_log, quay.shift, quay.invoice,
  quay.tide_hour
""".strip().replace("\n  ", " ")

_IN = ", ".join(str(n * 37 % 119_000) for n in range(2_400))
TROUBLES = [
    Case("a join buffer without an index",
         "SELECT count(*) FROM mooring m JOIN tide_hour t ON date(t.hour_at) = date(m.left_at) "
         "WHERE m.status = 'disputed'", ("join-side-without-index", "selective-full-scan",
                                         "full-scan-avoidable")),
    Case("no index on the side that is joined by name",
         "SELECT b.name, m.fee FROM mooring m JOIN berth b ON b.name = m.agent "
         "WHERE m.status = 'disputed'", ("join-side-without-index",)),
    Case("two indexes merged where one would do",
         "SELECT mooring_id, fee FROM mooring WHERE status = 'disputed' AND agent = 'agent 200'",
         ("index-merge:no-composite-index", "index-scan-discards-most")),
    Case("rows of two indexes put together",
         "SELECT fee FROM mooring WHERE agent = 'agent 17' AND status = 'disputed' "
         "AND berth_id = 120", ("index-merge:no-composite-index", "index-scan-discards-most")),
    Case("a range before the equality",
         "SELECT invoice_id, total FROM invoice WHERE sent_on >= '2024-03-01' AND paid = 0",
         ("index-scan-discards-most", "full-scan-avoidable", "selective-full-scan")),
    Case("a prefix that cannot sort",
         "SELECT agent, fee FROM mooring FORCE INDEX (by_agent_start) WHERE agent LIKE 'agent 3%' "
         "ORDER BY agent LIMIT 20", ("sort-without-index:prefix-index",
                                     "top-n-without-index:prefix-index",
                                     "index-scan-discards-most:prefix-index")),
    Case("a number given for a text key", "SELECT * FROM invoice WHERE mooring_ref = 7712",
         ("selective-full-scan:type-mismatch", "full-scan-avoidable:type-mismatch")),
    Case("a number joined to a text",
         "SELECT i.total FROM mooring m JOIN invoice i ON i.mooring_ref = m.mooring_id "
         "WHERE m.moored_at > '2025-11-20'",
         ("join-side-without-index:type-mismatch", "selective-full-scan:type-mismatch")),
    Case("another character set",
         "SELECT s.foreman, c.lifted FROM shift s JOIN crane_log c ON c.shift_code = s.code "
         "WHERE s.foreman = 'foreman 7'",
         ("join-side-without-index:type-mismatch", "join-side-without-index:collation-mismatch")),
    Case("compared by another collation",
         "SELECT * FROM mooring WHERE agent COLLATE utf8mb4_bin = 'agent 17'",
         ("selective-full-scan:collation-mismatch", "selective-full-scan:function-on-column",
          "selective-full-scan:type-mismatch")),
    Case("in the order of the key until enough are found",
         "SELECT mooring_id, agent FROM mooring WHERE fee > 8998 AND berth_id > 3 "
         "ORDER BY mooring_id LIMIT 40",
         ("order-walked", "index-scan-discards-most", "selective-full-scan",
          "walked-in-order", "ordered-scan-discards-most")),
    Case("nothing known of a skewed column",
         "SELECT m.fee, v.name FROM mooring m JOIN vessel v ON v.imo = m.imo "
         "WHERE m.left_at IS NULL AND v.built = 1971 AND m.fee < 5", ("column-statistics-missing",)),
    Case("joined as if all rows passed",
         "SELECT c.lifted, s.foreman FROM crane_log c JOIN shift s ON s.code = c.operator "
         "WHERE c.crane = 3 AND c.lifted = 39", ("column-statistics-missing",)),
    Case("long rows read for one number", "SELECT avg(fee) FROM mooring WHERE left_at IS NULL",
         ("missing-covering-index", "full-scan-avoidable", "selective-full-scan",
          "long-rows-read")),
    Case("long rows read to count", "SELECT agent, sum(fee) FROM mooring GROUP BY agent",
         ("missing-covering-index", "full-scan-avoidable", "long-rows-read", "group-without-index",
          "sort-spills", "sort-without-index")),
    Case("a UNION of what cannot be twice",
         "SELECT mooring_id, 'old' AS what FROM mooring WHERE moored_at < '2024-12-01' "
         "UNION SELECT mooring_id, 'new' FROM mooring WHERE moored_at >= '2025-03-01'",
         ("needless-distinct", "union-removes-nothing")),
    Case("a list of thousands", f"SELECT fee FROM mooring WHERE mooring_id IN ({_IN})",
         ("long-in-list",)),
    Case("a list of thousands on no index",
         f"SELECT * FROM crane_log WHERE lifted + crane IN ({_IN})",
         ("long-in-list", "selective-full-scan", "full-scan-avoidable")),
    Case("a function on the date", "SELECT fee FROM mooring WHERE date(moored_at) = '2025-03-03'",
         ("selective-full-scan:function-on-column", "full-scan-avoidable:function-on-column")),
    Case("a month of a date", "SELECT * FROM invoice WHERE date_format(sent_on, '%Y-%m') = '2025-02'",
         ("selective-full-scan:function-on-column",)),
    Case("a beginning that is open", "SELECT * FROM vessel WHERE name LIKE '%el 88'",
         ("selective-full-scan",)),
    Case("either of two tables",
         "SELECT m.mooring_id FROM mooring m JOIN vessel v ON v.imo = m.imo "
         "WHERE m.agent = 'agent 9' OR v.name = 'vessel 77'",
         ("or-across-tables", "selective-full-scan", "full-scan-avoidable")),
    Case("a sub-query for each row",
         "SELECT v.name, (SELECT max(m.moored_at) FROM mooring m WHERE m.imo = v.imo) "
         "FROM vessel v WHERE v.flag = 'AA'", ("subquery-per-row",)),
    Case("NOT IN over a table without index",
         "SELECT b.name FROM berth b WHERE b.name NOT IN (SELECT agent FROM mooring "
         "WHERE status = 'disputed' AND agent IS NOT NULL) AND (SELECT count(*) FROM crane_log c "
         "WHERE c.crane = b.berth_id) > 3", ("subquery-per-row",)),
    Case("pages deep down", "SELECT * FROM mooring ORDER BY moored_at LIMIT 20 OFFSET 90000",
         ("deep-offset", "deep-paging", "offset-reads-rows")),
    Case("a random row", "SELECT * FROM mooring ORDER BY rand() LIMIT 5",
         ("random-order", "sort-without-index", "random-order-sorted")),
    Case("a sort on disk", "SELECT mooring_id, remarks, agent FROM mooring ORDER BY fee, agent",
         ("sort-spills",), measured=True),
    Case("a cross join", "SELECT count(*) FROM berth b, vessel v WHERE b.side = 'N' AND v.flag = 'AA'",
         ("missing-join-condition",)),
    Case("the newest of each",
         "SELECT * FROM (SELECT c.*, row_number() OVER (PARTITION BY operator ORDER BY at DESC) n "
         "FROM crane_log c) x WHERE n = 1", ("groups-read-whole", "sort-without-index",
                                             "sort-spills")),
    Case("an index that is not chosen by its first column",
         "SELECT fee FROM mooring WHERE imo = 'V0000400'", ("selective-full-scan:no-index",)),
    Case("top of an unsorted column", "SELECT * FROM crane_log ORDER BY lifted DESC, at LIMIT 10",
         ("top-n-without-index",)),
    Case("a temporary table for each group",
         "SELECT date(moored_at) d, count(DISTINCT remarks) FROM mooring GROUP BY d ORDER BY 2",
         ("sort-spills", "temporary-table-on-disk", "aggregate-spills"), measured=True),
    Case("an UPDATE that finds its rows slowly",
         "UPDATE crane_log SET lifted = 0 WHERE crane = 3 AND at < '2025-01-02'",
         ("selective-full-scan",)),
    Case("a DELETE by a function", "DELETE FROM invoice WHERE year(sent_on) = 2024 AND total = 17",
         ("selective-full-scan", "selective-full-scan:function-on-column")),
]  # fmt: skip
FALSE = ("selective-full-scan", "full-scan-avoidable", "missing-covering-index",
         "join-side-without-index", "index-merge", "long-in-list", "sort-without-index",
         "top-n-without-index", "subquery-per-row", "column-statistics-missing",
         "index-scan-discards-most")  # fmt: skip
ALIKE = [
    Case("one row by its key", "SELECT * FROM mooring WHERE mooring_id = 500", FALSE),
    Case("a short list by the key", "SELECT fee FROM mooring WHERE mooring_id IN (5, 9, 400)", FALSE),
    Case("a text given for a text key", "SELECT * FROM invoice WHERE mooring_ref = '7712'", FALSE),
    Case("joined by the key",
         "SELECT v.name FROM mooring m JOIN vessel v ON v.imo = m.imo WHERE m.mooring_id < 40", FALSE),
    Case("an index that covers", "SELECT count(*) FROM mooring WHERE status = 'disputed'", FALSE),
    Case("newest first by an index", "SELECT * FROM mooring ORDER BY moored_at DESC LIMIT 10", FALSE),
    Case("UNION ALL of two", "SELECT berth_id FROM berth WHERE side = 'N' UNION ALL "
         "SELECT berth_id FROM berth WHERE side = 'S'", FALSE),
    Case("all rows are wanted", "SELECT sum(level) FROM tide_hour", FALSE),
    Case("a small table read whole", "SELECT * FROM berth WHERE side = 'N'", FALSE),
    Case("most rows pass", "SELECT count(*), max(total) FROM invoice WHERE paid = 1", FALSE),
    Case("a range by its index",
         "SELECT fee FROM mooring WHERE moored_at >= '2025-06-01' AND moored_at < '2025-06-02'", FALSE),
    Case("a sub-query that runs once",
         "SELECT * FROM mooring WHERE mooring_id = (SELECT max(mooring_id) FROM mooring)", FALSE),
    Case("a UNION that does remove",
         "SELECT agent FROM mooring WHERE mooring_id < 90 UNION "
         "SELECT agent FROM mooring WHERE mooring_id BETWEEN 50 AND 150", FALSE),
    Case("EXISTS by an index",
         "SELECT b.name FROM berth b WHERE EXISTS (SELECT 1 FROM mooring m "
         "WHERE m.berth_id = b.berth_id)", FALSE),
    Case("an UPDATE by the key", "UPDATE berth SET depth = 7 WHERE berth_id = 17", FALSE),
]  # fmt: skip
