"""Changes that could help: what they are, which are worth a look, and what they would bring."""
