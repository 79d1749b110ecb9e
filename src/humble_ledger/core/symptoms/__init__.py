"""What in a plan costs time and why: one module per family, and the list of them all."""
