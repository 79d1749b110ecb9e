"""What PostgreSQL grants to one step; see `core.costs.contract.Resources`."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.schema.facts import ServerFacts
from humble_ledger.engines.postgresql.plans.settings import memory_setting, number_setting

_USUAL_MEMORY_BYTES = 4.0 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class PostgresResources:
    """By one server's settings."""

    server: ServerFacts
    memory_setting: str = "work_mem"
    hash_memory_setting: str = "work_mem × hash_mem_multiplier"
    workers_setting: str = "max_parallel_workers_per_gather"
    most_workers_setting: str = "max_parallel_workers"
    compile_setting: str = "jit"
    compile_above_setting: str = "jit_above_cost"

    def memory_bytes(self, plan: Plan) -> float:
        """What a sort may use."""
        mine = memory_setting(plan, "work_mem")
        return mine if mine is not None else self.server.setting("work_mem", _USUAL_MEMORY_BYTES)

    def hash_memory_bytes(self, plan: Plan) -> float:
        """What a hash may use."""
        times = number_setting(plan, "hash_mem_multiplier")
        if times is None:
            times = self.server.setting("hash_mem_multiplier", 1.0)
        return self.memory_bytes(plan) * times

    @property
    def most_workers(self) -> float | None:
        """The size of the pool of parallel workers."""
        return self.server.settings.get("max_parallel_workers")

    @property
    def compile_above_cost(self) -> float | None:
        """From which cost on expressions are compiled."""
        return self.server.settings.get("jit_above_cost")
