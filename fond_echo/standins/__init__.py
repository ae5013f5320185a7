"""Simulated outside services that ship with Fond Echo. They know of it only what an outsider
can."""
