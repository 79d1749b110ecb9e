"""`python -m benchmarks`: every benchmark, each printing ratios; nothing is asserted."""

from __future__ import annotations

from benchmarks import judge, log_reading, plan_reading, startup

if __name__ == "__main__":
    for each in (startup, log_reading, plan_reading, judge):
        print(f"\n{each.__doc__}")
        each.main()
