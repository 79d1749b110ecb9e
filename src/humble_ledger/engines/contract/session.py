"""A session: a read-only connection to one target, for plans, facts and estimates.

It has time-outs and a name the server's administrators can see; it explains statements, runs
them when asked, tells catalogue facts, and lends the planner's row estimates (`rows_matching`)
to predictions.
"""

from __future__ import annotations

from typing import Protocol

from humble_ledger.core.schema.facts import ServerFacts
from humble_ledger.engines.contract.catalog import Catalog
from humble_ledger.engines.contract.observer import Observer
from humble_ledger.engines.contract.planner import Planner
from humble_ledger.engines.contract.sampler import Sampler
from humble_ledger.engines.contract.support import Capability, Support


class Session(Planner, Catalog, Sampler, Observer, Protocol):
    """A read-only connection to a target; each part is what one kind of caller needs."""

    server: ServerFacts

    def support(self, capability: Capability) -> Support:
        """Whether this server is able to do that; if not, why, and what to do."""
        ...

    def close(self) -> None:
        """End the session."""
        ...
