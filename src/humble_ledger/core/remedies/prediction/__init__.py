"""What an index would do to a plan's cost before it is built."""
