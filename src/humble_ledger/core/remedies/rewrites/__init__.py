"""Statements written another way, so that an index can lead to their rows.

Each rewriting works on the syntax tree, changes one comparison, and says under which condition
the statement still means the same; whether it does for the data at hand, a trial checks.
"""
