"""Entries on their way from one ledger to another: as records, taken out and put in."""
