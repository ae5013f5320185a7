"""Carries a turn through its stages: retries, speculative hearing, streamed speech, asides."""
