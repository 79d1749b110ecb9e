"""Plain words for what plans, figures, conditions and waits are called."""
