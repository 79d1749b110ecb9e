"""The hollow: a server of ours with the target's schema, statistics and file sizes, and no rows.

The planner takes the size of a relation from its file and all else from the catalogue, so that
it plans on the hollow as it does on the target. An index that is only supposed costs a few
milliseconds there: it is built over next to nothing, and its file is given the length and the
height that the real one would have.
"""
