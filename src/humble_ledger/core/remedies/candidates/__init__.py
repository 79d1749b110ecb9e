"""Indexes worth a look for a plan, one module for each way an index can serve."""
