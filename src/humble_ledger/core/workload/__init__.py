"""Statements seen at work: observations, and their ranking."""
