"""Fond Echo: an ear and a voice for text business logic."""

__version__ = "0.1.0"
