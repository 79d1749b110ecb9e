"""A copy of a target on a server of ours, for what the real planner would do.

Unlike PostgreSQL's planner, this family's looks into the indexes themselves: it counts the
entries between two values. So the copy is no empty one: a bounded sample of each table's rows is
repeated until there are as many as the target has, with values between those that were sampled.
Sizes and statistics are the target's own. `source` reads the target, `rows` makes the rows,
`statistics` carries the statistics over, `house` starts the server, and `asking` is asked.
"""
