"""A copy with rows like the target's: what its planner says is what the target's does."""

from __future__ import annotations

import shutil
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from tempfile import mkdtemp

import pytest

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.counterexamples.model import SmallDatabase
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.launching.keeping import FOLDER_VARIABLE, OPEN
from humble_ledger.engines.mysql.engine import MariadbEngine
from humble_ledger.engines.mysql.hollow import filling
from humble_ledger.engines.mysql.hollow.asking import MysqlHollow
from humble_ledger.engines.mysql.launcher import MariaCluster
from humble_ledger.engines.mysql.naming import quoted
from humble_ledger.errors import HumbleError, StatementRejected
from tests.conftest import Maria

pytestmark = pytest.mark.xdist_group("mariadb")
ROWS = 24_000
FEW = 30.0  # the cost of a score of rows, of which a sample has one in five or in six
LIMITS = Limits(statement_ms=30_000)
SCHEMA = f"""
CREATE DATABASE lagoon CHARACTER SET utf8mb4
CREATE TABLE lagoon.`odd keeper` (id INT PRIMARY KEY, mail VARCHAR(60) NOT NULL, UNIQUE (mail),
  born DATE) STATS_AUTO_RECALC=0
INSERT INTO lagoon.`odd keeper` SELECT seq, CONCAT('keeper', seq, '@lagoon.example'),
  DATE('1950-01-01') + INTERVAL seq % 18000 DAY FROM seq_1_to_3000
CREATE TABLE lagoon.visit (buoy INT, at DATETIME, keeper INT, mark UUID NOT NULL, grade
  ENUM('low','fair','high'), cost DECIMAL(8,2), words VARCHAR(80), more JSON, spot POINT,
  year_of INT AS (YEAR(at)) VIRTUAL, flag BIT(3), PRIMARY KEY (buoy, at), UNIQUE (mark),
  KEY by_keeper (keeper), CONSTRAINT of_keeper FOREIGN KEY (keeper) REFERENCES `odd keeper` (id))
  STATS_AUTO_RECALC=0
INSERT INTO lagoon.visit (buoy, at, keeper, mark, grade, cost, words, more, spot, flag)
  SELECT seq % 160, TIMESTAMP('2025-01-01') + INTERVAL seq * 1300 SECOND, 1 + seq * 7 % 3000,
  UUID(), 1 + (seq % 100 > 4) + (seq % 100 > 60), seq * 13 % 90000 / 100, CONCAT('words ', seq),
  '{{"a": 1}}', POINT(seq, 1), seq % 8 FROM seq_1_to_{ROWS}
CREATE TABLE lagoon.tide (id BIGINT PRIMARY KEY AUTO_INCREMENT, day DATE, level DOUBLE)
  STATS_AUTO_RECALC=0
  PARTITION BY HASH (id) PARTITIONS 3
INSERT INTO lagoon.tide (day, level) SELECT DATE('2020-01-01') + INTERVAL seq % 2000 DAY,
  SIN(seq) FROM seq_1_to_{ROWS}
CREATE VIEW lagoon.dear AS SELECT buoy, at, cost FROM lagoon.visit WHERE cost > 800
ANALYZE TABLE lagoon.visit, lagoon.`odd keeper`, lagoon.tide
""".strip().replace("\n  ", " ")
LEDGER = [
    ("SELECT * FROM visit WHERE grade = 'low'", "visit (grade)"),
    ("SELECT words FROM visit WHERE cost BETWEEN 100 AND 112", "visit (cost)"),
    ("SELECT * FROM visit WHERE at >= '2025-03-01' AND at < '2025-03-15'", "visit (at)"),
    ("SELECT buoy, at FROM visit WHERE words = 'words 77'", "visit (words)"),
    ("SELECT count(*) FROM visit WHERE grade = 'high' AND cost < 90", "visit (grade, cost)"),
    ("SELECT * FROM visit WHERE keeper = 42 ORDER BY at DESC LIMIT 3", "visit (keeper, at)"),
    (
        "SELECT k.mail, v.cost FROM `odd keeper` k JOIN visit v ON v.keeper = k.id "
        "WHERE k.born < '1951-01-01' AND v.cost > 890",
        "visit (keeper, cost)",
    ),
    ("SELECT max(level) FROM tide WHERE day = '2021-06-01'", "tide (day)"),
    ("SELECT at FROM dear WHERE cost > 899", "visit (cost)"),
]


@pytest.fixture(scope="module")
def lagoon(maria: Maria) -> Iterator[str]:
    maria.do("DROP DATABASE IF EXISTS lagoon")
    for statement in SCHEMA.splitlines():
        maria.do(statement)
    assert isinstance(maria.cluster, MariaCluster)
    yield maria.cluster.url("lagoon")
    maria.do("DROP DATABASE lagoon")


@pytest.fixture(scope="module")
def copy(lagoon: str) -> Iterator[MysqlHollow]:
    """One of which every fifth row was read."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(filling, "MOST_READ", ROWS // 5)
        with MariadbEngine().connect(lagoon, LIMITS).hollow() as made:
            assert isinstance(made, MysqlHollow)
            # Before anything is built on the target, which counts its rows anew then.
            for sql, _ in LEDGER:
                now = made.target.explain(Statement(sql)).plan.cost_total
                assert _planned(made, sql).cost_total == pytest.approx(now, rel=0.25, abs=FEW)
            yield made


def _design(text: str) -> IndexDesign:
    return parse_index(text, "")


def _planned(copy: MysqlHollow, sql: str, *designs: IndexDesign) -> Plan:
    facts = copy.target.known
    shapes = {
        d: copy.target.costs.sizes.in_order(
            facts.tables([d.table])[d.table],
            [facts.tables([d.table])[d.table].columns[c] for c in d.key_columns],
        )
        for d in designs
    }
    return copy.explain(Statement(sql), shapes).plan


@pytest.mark.parametrize(("sql", "index"), LEDGER)
def test_it_plans_with_an_index_as_the_target_does(
    copy: MysqlHollow, lagoon: str, maria: Maria, sql: str, index: str
) -> None:
    design = _design(index)
    supposed = _planned(copy, sql, design)
    name = next(n for n, d in copy.names({design: None}).items() if d == design)  # type: ignore[dict-item]
    table = f"lagoon.{quoted(design.table.name)}"
    keys = ", ".join(map(quoted, design.key_columns))
    maria.do(f"CREATE INDEX really ON {table} ({keys})")
    try:
        with_it = MariadbEngine().connect(lagoon, LIMITS).session()
        built = with_it.explain(Statement(sql)).plan
        with_it.close()
    finally:
        maria.do(f"DROP INDEX really ON {table}")
    assert supposed.uses_index(name) == built.uses_index("really")
    assert supposed.cost_total == pytest.approx(built.cost_total, rel=0.35, abs=FEW)


def test_it_has_as_many_rows_of_every_kind_and_the_targets_sizes(
    copy: MysqlHollow, maria: Maria
) -> None:
    assert copy.notes == []
    for table in ("visit", "tide", "odd keeper"):
        there = maria.fetch(f"SELECT COUNT(*) FROM lagoon.{quoted(table)}")[0][0]
        made = copy.copy.one(f"SELECT COUNT(*) FROM lagoon.{quoted(table)}")
        assert made == pytest.approx(there, rel=0.08)
    sizes = (
        "SELECT clustered_index_size FROM mysql.innodb_table_stats "
        "WHERE database_name = 'lagoon' AND table_name = 'odd keeper'"
    )
    assert list(copy.owner.rows(sizes)) == maria.fetch(sizes)  # on which nothing was built


@pytest.mark.parametrize(
    "sql",
    [
        "CREATE DATABASE elsewhere",
        "SELECT 1 INTO OUTFILE '/tmp/humble-outfile'",
        "SET GLOBAL max_connections = 5",
        "SELECT * FROM mysql.global_priv",
    ],
)
def test_what_the_target_says_of_itself_can_do_nothing_outside_of_the_copy(
    copy: MysqlHollow, sql: str
) -> None:
    with pytest.raises(HumbleError, match="denied"):
        copy.copy.rows(sql)


def test_an_index_of_the_target_can_be_supposed_gone_and_comes_back(copy: MysqlHollow) -> None:
    sql = Statement("SELECT * FROM visit WHERE keeper = 42")
    assert copy.explain(sql, {}).plan.uses_index("by_keeper")
    gone = [TableName("", "by_keeper")]
    assert not copy.explain(sql, {}, without=gone).plan.uses_index("by_keeper")
    # A DELETE has no place to say what it ignores: then the server is told.
    delete = Statement("DELETE FROM visit WHERE keeper = 42")
    assert not copy.explain(delete, {}, without=gone).plan.uses_index("by_keeper")
    assert copy.explain(delete, {}).plan.uses_index("by_keeper")
    assert copy.explain(sql, {}).plan.uses_index("by_keeper")


def test_ranges_are_not_counted_where_only_a_part_of_the_rows_is_there(
    lagoon: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(filling, "MOST_READ", 2_000)
    monkeypatch.setattr(filling, "MOST_MADE", 10_000)
    with MariadbEngine().connect(lagoon, LIMITS).hollow() as made:
        assert isinstance(made, MysqlHollow)
        joined = _planned(made, LEDGER[6][0], _design("visit (keeper, cost)"))
        assert joined.uses_index("humble_supposed_1")  # that rests on statistics alone
        with pytest.raises(StatementRejected, match="a part of the rows of visit"):
            _planned(made, LEDGER[1][0], _design("visit (cost)"))
        assert any("the copy" in note for note in made.notes)


def test_more_rows_than_the_server_believes_are_no_whole_table(
    lagoon: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Its statistics may be long out of date: what was read tells that there is more."""
    monkeypatch.setattr(filling, "MOST_READ", 2_000)
    with MariadbEngine().connect(lagoon, LIMITS).hollow() as made:
        assert isinstance(made, MysqlHollow)
        name = TableName("", "visit")
        stale = replace(made.target.known.catalogue.tables([name])[name], rows=900.0)
        made.target.known.catalogue._known[name] = stale
        with pytest.raises(StatementRejected, match="a part of the rows of visit"):
            _planned(made, LEDGER[1][0], _design("visit (cost)"))


def test_an_index_that_is_not_used_changes_no_cost(copy: MysqlHollow) -> None:
    """Building one has the server look at the copy's own rows, which are shorter than these."""
    sql = "SELECT * FROM visit WHERE words LIKE '%77%'"
    now = _planned(copy, sql).cost_total
    assert _planned(copy, sql, _design("visit (cost, keeper)")).cost_total == now
    assert (
        _planned(copy, sql, _design("visit (flag)"), _design("visit (year_of)")).cost_total == now
    )
    _planned(copy, "SELECT at FROM dear WHERE cost > 899")  # through a view: hides it in the table
    assert _planned(copy, sql).cost_total == now


def test_a_statement_is_planned_in_a_transaction_that_changes_nothing(copy: MysqlHollow) -> None:
    before = copy.copy.one("SELECT COUNT(*) FROM visit")
    copy.explain(Statement("DELETE FROM visit WHERE keeper = 42"), {})
    copy.explain(Statement("SELECT count(*) FROM visit"), {})
    assert copy.copy.one("SELECT COUNT(*) FROM visit") == before
    # And the session may go on to build what is supposed.
    assert copy.copy.one("SELECT @@SESSION.tx_read_only") == 0


def test_a_table_that_cannot_be_read_is_tried_once_and_told(
    lagoon: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    tried = []

    def refused(*_: object) -> None:
        tried.append(1)
        raise StatementRejected("no right to read it")

    monkeypatch.setattr("humble_ledger.engines.mysql.hollow.asking.fill", refused)
    with MariadbEngine().connect(lagoon, LIMITS).hollow() as made:
        for _ in range(3):
            with pytest.raises(StatementRejected, match="no right"):
                made.explain(Statement("SELECT * FROM tide"), {})
        assert len(tried) == 1
        assert any("tide is not in the copy" in note for note in made.notes)


def test_small_databases_obey_the_constraints_and_go_again(copy: MysqlHollow) -> None:
    visit, keeper = TableName("", "visit"), TableName("", "odd keeper")
    with copy.arena([visit, keeper]) as arena:
        values = arena.typical(visit, {"cost": ["5.5"]})
        assert {"5.50", "6.50", "4.50"} <= {f"{float(v):.2f}" for v in values["cost"][:3]}
        assert values["grade"] == ["low", "fair", "high"]
        arena.typical(keeper, {})
        row = {"buoy": "1", "at": "2026-03-01 00:00:00", "keeper": "9", "mark": values["mark"][0]}
        given = SmallDatabase({keeper: ({"id": "1", "mail": "a"},), visit: (row,)})
        with arena.filled(given) as filled:
            # There is no keeper 9.
            assert {t: len(r) for t, r in filled.database.rows.items()} == {keeper: 1, visit: 0}
            answer = filled.ask(Statement("SELECT id, born FROM `odd keeper`"))
            assert answer.rows == (("1", None),)
            assert "nowhere" in filled.ask(Statement("SELECT 1 FROM nowhere")).error
        with arena.filled(SmallDatabase({keeper: (), visit: ()})) as filled:
            assert filled.ask(Statement("SELECT id FROM `odd keeper`")).rows == ()


def test_a_copy_stays_and_only_what_changed_is_filled_anew(
    maria: Maria, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = Path(mkdtemp(prefix="humble-tests-", dir="/var/tmp"))
    folder.chmod(0o755)  # the server's user must get through
    monkeypatch.setenv(FOLDER_VARIABLE, str(folder))
    maria.do("DROP DATABASE IF EXISTS shoal")
    maria.do("CREATE DATABASE shoal")
    for name in ("still", "busy"):
        maria.do(f"CREATE TABLE shoal.{name} (id INT PRIMARY KEY, n INT) STATS_AUTO_RECALC=0")
        maria.do(f"INSERT INTO shoal.{name} SELECT seq, seq % 50 FROM seq_1_to_4000")
    maria.do("CREATE VIEW shoal.few AS SELECT id FROM shoal.still WHERE n = 3")
    maria.do("ANALYZE TABLE shoal.still, shoal.busy")
    time.sleep(1.1)  # the server tells in whole seconds when a table was changed
    url = maria.cluster.url("shoal")
    asked = {
        "still": ("SELECT * FROM still WHERE n = 3", "still (n)"),
        "busy": ("SELECT * FROM busy WHERE n = 3", "busy (n)"),
        "few": ("SELECT * FROM few", "still (n, id)"),
    }

    def answers(keep: bool = True) -> tuple[dict[str, float | None], list[str]]:
        said: list[str] = []
        with MariadbEngine().connect(url, LIMITS).hollow(said.append, keep=keep) as made:
            assert isinstance(made, MysqlHollow)
            costs = {
                name: _planned(made, sql, _design(index)).cost_total
                for name, (sql, index) in asked.items()
            }
        return costs, [each.split()[-1] for each in said if "making rows" in each]

    try:
        first, filled = answers()
        assert sorted(filled) == ["busy", "still"]
        assert answers() == (first, [])
        (kept,) = MariadbEngine().kept_hollows()
        assert kept.target == url and kept.disk_bytes > 10_000_000
        assert Path(kept.folder).stat().st_mode & 0o077 == 0
        assert answers(keep=False) == (first, ["still", "busy"])
        # What was changed is seen: as many rows, but others.
        maria.do("UPDATE shoal.busy SET n = 3 WHERE id <= 2000")
        maria.do("ANALYZE TABLE shoal.busy")
        later, filled = answers()
        assert filled == ["busy"] and later["still"] == first["still"]
        assert (later["busy"] or 0.0) > 2 * (first["busy"] or 0.0)
        # So is another definition, and a table that is gone.
        maria.do("ALTER TABLE shoal.still ADD COLUMN more INT")
        maria.do("DROP VIEW shoal.few")
        maria.do("DROP TABLE shoal.busy")
        asked.pop("few")
        asked.pop("busy")
        assert answers()[1] == ["still"]
        # Nothing is trusted that was not left properly.
        (Path(kept.folder) / OPEN).touch()
        assert answers()[1] == ["still"]
        assert MariadbEngine().drop_hollows() == []
        assert not Path(kept.folder).exists()
    finally:
        maria.do("DROP DATABASE shoal")
        shutil.rmtree(folder, ignore_errors=True)
