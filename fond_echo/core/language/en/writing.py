"""Text as it is spoken, and spoken words as they are written (English)."""

from fond_echo.core.language.en.say_as import say_as
from fond_echo.core.language.en.sentence_ends import split as sentences_of
from fond_echo.core.language.en.spoken import phrases, spoken_tokens
from fond_echo.core.language.en.written import written_parts, written_text

__all__ = ["phrases", "say_as", "sentences_of", "spoken_tokens", "written_parts", "written_text"]
