"""Settling: the decision on a trial, the change made for good, and whether it still holds."""
