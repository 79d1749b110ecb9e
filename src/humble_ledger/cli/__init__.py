"""The program `humble`: parse, call the workflow, hand the result to a view."""
