"""Diagnosing: from plans, runs and catalogue to symptoms."""
