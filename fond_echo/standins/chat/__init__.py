"""Skerry, a small made-up chat network: people, rooms, texts, voice notes and files."""
