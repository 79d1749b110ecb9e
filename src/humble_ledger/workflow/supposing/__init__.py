"""What if: the target's planner asked about what is not there."""
