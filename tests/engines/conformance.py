"""What every engine must keep: the promises of `engines.contract`, asked of a real target.

A target has a table ``conformance (id, kind, note)`` of some thousand rows, with an index on
``id``; ``kind`` has few values and no index.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass

import pytest

from humble_ledger.core.costs.model import Search
from humble_ledger.core.plans.model import SCANS
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import IndexKey, TableFacts, TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import (
    Capability,
    Change,
    Engine,
    ExplainOptions,
    Limits,
    NewIndex,
    Session,
)
from humble_ledger.errors import HumbleError, StatementRejected

ROWS = 5_000
FEW = "SELECT note FROM conformance WHERE kind = 7"
MARK = "t0@conformance"


@dataclass(frozen=True)
class Target:
    """An engine, the address of a target of its, and the schema its tables lie in."""

    engine: Engine
    url: str
    schema: str

    @property
    def table(self) -> TableName:
        return TableName(self.schema, "conformance")

    @contextmanager
    def session(self) -> Iterator[Session]:
        session = self.engine.connect(self.url, Limits()).session()
        try:
            yield session
        finally:
            session.close()

    def facts(self, session: Session) -> TableFacts:
        return session.tables([self.table])[self.table]


def plans_are_read_again_from_their_documents(target: Target) -> None:
    form = target.engine.plans
    assert form.engine == target.engine.name
    with target.session() as session:
        assert session.server.engine == target.engine.name
        for options in (ExplainOptions(), ExplainOptions(measure=True)):
            found = session.explain(Statement(FEW), options)
            assert found.plan.measured == options.measure
            assert found.plan.engine == form.engine and (found.plan.cost_total or 0) > 0
            assert form.read(found.document, session.server.version) == found.plan
            assert (
                form.read(form.masked(found.document)).root.operation is found.plan.root.operation
            )
            (scan,) = [node for node in found.plan.nodes() if node.operation in SCANS]
            assert scan.relation == "conformance" and any(
                "kind" in c for c in scan.conditions.all()
            )


def a_session_only_reads(target: Target) -> None:
    with target.session() as session:
        before = session.count(target.table, [])
        for sql in ("DELETE FROM conformance", "INSERT INTO conformance VALUES (1, 1, 'x')"):
            with pytest.raises(Exception) as caught:
                session.run(Statement(sql))
            assert caught.value is not None
        assert session.count(target.table, []) == before == ROWS
        assert session.run(Statement("SELECT count(*) FROM conformance")).rows == 1


def what_is_not_there_is_told_as_such(target: Target) -> None:
    """A change that was never made needs no undoing: that must be told from all else."""
    with target.session() as session:
        for sql, missing in (
            ("SELECT note FROM nothing_of_that_name", True),
            ("SELECT nothing_of_that_name FROM conformance", True),
            ("SELECT FROM WHERE", False),
        ):
            with pytest.raises(StatementRejected) as caught:
                session.run(Statement(sql))
            assert caught.value.nothing_there == missing, sql


def what_a_server_cannot_do_is_told_with_reason_and_remedy(target: Target) -> None:
    with target.session() as session:
        for capability in Capability:
            able = session.support(capability)
            assert able or (able.reason and able.remedy), capability


def facts_and_estimates_fit_the_table(target: Target) -> None:
    with target.session() as session:
        facts = target.facts(session)
        assert facts.kind == "table" and facts.pages > 8
        assert facts.rows == pytest.approx(ROWS, rel=0.2)
        assert {"id", "kind", "note"} <= facts.columns.keys()
        assert [index.key_columns for index in facts.indexes if index.method == "btree"] == [
            ("id",)
        ]
        assert target.table in session.user_tables()
        every = session.rows_matching(target.table, "conformance", [])
        some = session.rows_matching(target.table, "conformance", ["(kind = 7)"])
        assert 0 < some < every == pytest.approx(ROWS, rel=0.2)


def costs_grow_with_the_share_that_is_read(target: Target) -> None:
    with target.session() as session:
        facts, costs = target.facts(session), session.costs
        shape = costs.sizes.in_order(facts, [facts.columns["kind"]])
        assert shape.pages > 0 and shape.entries == pytest.approx(ROWS, rel=0.2)
        shares = [0.001, 0.01, 0.1, 0.5, 1.0]
        prices = [costs.index_scan(facts, shape, Search(s, s, 1), 0.0).total for s in shares]
        assert prices == sorted(prices) and prices[0] < costs.full_scan(facts)
        plan = session.explain(Statement("SELECT note FROM conformance")).plan
        (scan,) = [node for node in plan.nodes() if node.operation in SCANS]
        assert scan.cost is not None
        assert costs.full_scan(facts) == pytest.approx(scan.cost.total, rel=0.05)


def a_hollow_plans_as_its_target_and_with_what_is_supposed(target: Target) -> None:
    """Where an engine can make one: the same costs, another plan with an index, nothing built."""
    with target.session() as session:
        able = session.support(Capability.HOLLOW)
        if not able:
            with pytest.raises(HumbleError), target.engine.connect(target.url).hollow():
                pass
            return
        facts = target.facts(session)
        now = session.explain(Statement(FEW)).plan
        design = IndexDesign(target.table, (IndexKey("kind"),))
        shape = session.costs.sizes.in_order(facts, [facts.columns["kind"]])
        with target.engine.connect(target.url).hollow() as hollow:
            assert hollow.explain(Statement(FEW), {}).plan.cost_total == now.cost_total
            found = hollow.explain(Statement(FEW), {design: shape}).plan
            (name,) = hollow.names({design: shape})
            assert found.uses_index(name) and (found.cost_total or 0) < (now.cost_total or 0)
            again = hollow.explain(Statement(FEW), {}).plan
            # Costs may count the pages that are in memory, of which more are by now.
            assert again.cost_total == pytest.approx(now.cost_total, rel=0.02)
            assert not again.uses_index(name)
            assert hollow.asked == 3
        assert target.facts(session).indexes == facts.indexes
    dropped = target.engine.drop_hollows()
    assert not dropped and not target.engine.kept_hollows()


def only_one_arm_sees_an_index_and_nothing_is_left(target: Target) -> None:
    name = "conformance_kind_idx"
    sql = f"CREATE INDEX {name} ON conformance (kind)"
    change = Change((NewIndex(target.schema, name, sql, sql, f"DROP INDEX {name}"),))
    with target.engine.connect(target.url, Limits(), MARK).experiment(change) as experiment:
        (build,) = experiment.builds
        assert build.build_ms > 0 and build.size_bytes > 0
        used = {
            side: {node.index for node in arm.explain(Statement(FEW), measure=True).plan.nodes()}
            for side, arm in (("before", experiment.before), ("after", experiment.after))
        }
        assert name not in used["before"] and name in used["after"]
        rows = [
            sorted(arm.result_rows(Statement(FEW))) for arm in (experiment.before, experiment.after)
        ]
        assert rows[0] == rows[1] and rows[0]
    # A session that was ended may take a moment to go.
    for _ in range(200):
        left = target.engine.connect(target.url, mark=MARK).leftovers([(target.schema, name)])
        if not left.processes:
            break
        time.sleep(0.05)
    assert not left
    with target.session() as session:
        assert len(target.facts(session).indexes) == 1


CHECKS = (
    plans_are_read_again_from_their_documents,
    a_session_only_reads,
    what_is_not_there_is_told_as_such,
    what_a_server_cannot_do_is_told_with_reason_and_remedy,
    facts_and_estimates_fit_the_table,
    costs_grow_with_the_share_that_is_read,
    a_hollow_plans_as_its_target_and_with_what_is_supposed,
    only_one_arm_sees_an_index_and_nothing_is_left,
)
