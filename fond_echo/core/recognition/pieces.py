"""How much sound is read at once."""

LONGEST_PIECE = 30.0
"""Seconds; longer sound is cut at its quietest places."""
