"""Proposing: from plans and symptoms to changes worth trying."""
