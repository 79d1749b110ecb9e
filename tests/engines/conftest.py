"""A target for hollows, on each server version."""

from __future__ import annotations

from collections.abc import Iterator

import psycopg
import pytest

from humble_ledger.engines.postgresql.engine import PostgresEngine
from humble_ledger.engines.postgresql.hollow.asking import PostgresHollow
from humble_ledger.engines.postgresql.launcher import Cluster
from tests.conftest import FOUND, MAJORS
from tests.engines.hollow_schema import SCHEMA


@pytest.fixture(
    scope="module",
    # In one worker, or each that gets a test of a module makes its target again.
    params=[
        pytest.param(m, id=f"pg{m}", marks=pytest.mark.xdist_group(f"hollows{m}")) for m in MAJORS
    ],
)
def target(request: pytest.FixtureRequest) -> Iterator[str]:
    if request.param not in FOUND:
        pytest.skip("these server programs are not here")
    # Without replicas a server that is idle writes nothing to its log.
    quiet = {"wal_level": "minimal", "max_wal_senders": "0", "autovacuum": "off"}
    with Cluster(FOUND[request.param], quiet) as cluster:
        with psycopg.connect(cluster.url("postgres"), autocommit=True) as server:
            server.execute(SCHEMA)
            server.execute("VACUUM ANALYZE")
        yield cluster.url("postgres")


@pytest.fixture(scope="module")
def hollow(target: str) -> Iterator[PostgresHollow]:
    with PostgresEngine().connect(target).hollow() as made:
        assert isinstance(made, PostgresHollow)
        yield made
