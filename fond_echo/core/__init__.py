"""Computation only: no HTTP, database, files, clock or randomness that was not handed in."""
