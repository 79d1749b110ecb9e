"""Judging before and after: order of runs, the interval of the ratio, results, verdicts."""
