"""Symptoms of one plan: one module per family, and the list of all rules."""
