"""From many priced candidates to the few worth trying, alone or together under a budget."""
