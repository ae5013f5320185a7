"""Turns taken again where nothing is sent outside: replays, cases, tries."""
