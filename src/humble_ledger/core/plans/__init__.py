"""Execution plans: the neutral model of all servers, and the arithmetic on it."""
