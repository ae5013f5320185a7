"""How much sound is read at once."""

MAX_PIECE = 30.0
"""Seconds; longer sound is cut at its quietest places."""
