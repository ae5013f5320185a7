"""The languages that the built-in recognizer and synthesizer know."""

LANGUAGES = ("en",)
