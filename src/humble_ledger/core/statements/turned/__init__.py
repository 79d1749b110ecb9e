"""Comparisons turned so that the bare column stands alone on its side, rule by rule."""
