"""Reading: what is slow, its plans, what surrounds them, and what else the server could do."""
