"""Diagnosing: from plans, runs and catalogue to symptoms."""

from humble_ledger.workflow.diagnosing.everything import diagnose

__all__ = ["diagnose"]
