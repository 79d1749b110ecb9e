"""How large a plan may be, from whatever server: limits that are said.

Plans come from strangers, and a few megabytes can be made to nest for hours.
"""

from __future__ import annotations

MOST_STEPS = 20_000
MOST_DEPTH = 250  # steps below each other; a join of a hundred tables nests about as deep
