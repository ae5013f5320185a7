"""The languages that the built-in ear and voice know."""

LANGUAGES = ("en",)
