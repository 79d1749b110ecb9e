"""`python -m benchmarks [NAME ...]`: benchmarks, each printing ratios; nothing is asserted.

All of them without a name. What one takes itself it is given alone, as in
`python -m benchmarks.findings harbour`.
"""

from __future__ import annotations

import sys

from benchmarks import (
    choice,
    file_database,
    findings,
    fleet,
    generated,
    judge,
    large_ledger,
    log_reading,
    plan_reading,
    prediction,
    proposing,
    recording,
    startup,
)

ALL = {
    each.__name__.rpartition(".")[2]: each
    for each in (
        startup, log_reading, fleet, recording, plan_reading, prediction, choice, findings,
        file_database, generated, proposing, large_ledger, judge,
    )
}  # fmt: skip

if __name__ == "__main__":
    unknown = sorted(set(sys.argv[1:]) - ALL.keys())
    if unknown:
        sys.exit(f"No benchmark is called {', '.join(unknown)}; there are {', '.join(ALL)}.")
    for name in sys.argv[1:] or ALL:
        print(f"\n{ALL[name].__doc__}")
        ALL[name].main()
