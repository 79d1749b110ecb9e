"""Servers that speak PostgreSQL's protocol and are others, distributed ones above all.

They are found by what they answer. Nothing that is true of PostgreSQL is taken for true of them:
each thing is asked before it is used, and what cannot be asked is said to be unknown.
"""
