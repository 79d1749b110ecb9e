"""Looking for small databases on which a rewritten statement gives another result.

A rewriting is held to mean the same by its rule; here that claim is attacked: both statements
run on hundreds of databases of a few rows each, with the nulls, duplicates, empty tables and
boundary values that such claims forget, and which the schema's own constraints allow.
"""
