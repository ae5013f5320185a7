"""Engines: what transcribes, speaks, answers, summarizes, translates or draws."""
