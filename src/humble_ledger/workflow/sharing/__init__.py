"""Sharing: bundles that carry entries from one ledger to another."""
