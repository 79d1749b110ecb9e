"""`python -m benchmarks`: every benchmark, each printing ratios; nothing is asserted."""

from __future__ import annotations

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

if __name__ == "__main__":
    for each in (
        startup,
        log_reading,
        fleet,
        recording,
        plan_reading,
        prediction,
        choice,
        findings,
        fleet,
        file_database,
        generated,
        proposing,
        large_ledger,
        judge,
    ):
        print(f"\n{each.__doc__}")
        each.main()
