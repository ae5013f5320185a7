"""Grammars (W3C Speech Recognition Grammar Specification 1.0): one description of what may be
said, for the text matcher and for the recognizer's network."""
