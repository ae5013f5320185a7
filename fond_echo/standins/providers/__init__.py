"""Gannet, a made-up provider of hearing, speech and answers, connected by connector files."""
