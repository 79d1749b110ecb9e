"""Symptoms of a workload: how statements are sent, and how their runs differ."""
