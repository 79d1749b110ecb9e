"""What an engine must offer, whatever the server; each module has what one kind of caller needs.

`engine` connects to a `server`, which opens sessions and trials. A `session` is made of a
`planner`, a `catalog`, a `sampler` and an `observer`. `lab` has the arms of a trial, `plans` and
`logs` read what servers write, `support` tells what a server cannot do, and why.
"""

from humble_ledger.engines.contract.catalog import Catalog
from humble_ledger.engines.contract.engine import Engine
from humble_ledger.engines.contract.hollow import ANY_NUMBER, EXACT, HOLLOW_SCHEME, Hollow
from humble_ledger.engines.contract.lab import (
    AdminSession,
    Arm,
    Change,
    Client,
    Experiment,
    IndexBuild,
    Leftovers,
    NewIndex,
    Outcome,
    SequentialExperiment,
    WriteRuns,
)
from humble_ledger.engines.contract.limits import (
    APPLICATION_NAME,
    LOCK_TIMEOUT_MS,
    STATEMENT_TIMEOUT_MS,
    Limits,
)
from humble_ledger.engines.contract.logs import LogFormat
from humble_ledger.engines.contract.observer import Observer, Running
from humble_ledger.engines.contract.planner import Planner
from humble_ledger.engines.contract.plans import (
    ExplainOptions,
    PlanDocument,
    PlanFormat,
    SavedPlan,
)
from humble_ledger.engines.contract.reading import PlanReader, Reading, complete
from humble_ledger.engines.contract.sampler import Sampler
from humble_ledger.engines.contract.server import Server
from humble_ledger.engines.contract.session import Session
from humble_ledger.engines.contract.support import Capability, Support

__all__ = [
    "ANY_NUMBER",
    "APPLICATION_NAME",
    "EXACT",
    "HOLLOW_SCHEME",
    "LOCK_TIMEOUT_MS",
    "STATEMENT_TIMEOUT_MS",
    "AdminSession",
    "Arm",
    "Capability",
    "Catalog",
    "Change",
    "Client",
    "Engine",
    "Experiment",
    "ExplainOptions",
    "Hollow",
    "IndexBuild",
    "Leftovers",
    "Limits",
    "LogFormat",
    "NewIndex",
    "Observer",
    "Outcome",
    "PlanDocument",
    "PlanFormat",
    "PlanReader",
    "Planner",
    "Reading",
    "Running",
    "Sampler",
    "SavedPlan",
    "SequentialExperiment",
    "Server",
    "Session",
    "Support",
    "WriteRuns",
    "complete",
]
