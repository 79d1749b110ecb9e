"""SQL text: tokens, grouping by fingerprint, what kind of statement it is, its conditions."""
