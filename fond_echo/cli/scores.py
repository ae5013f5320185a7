"""What was heard beside what was said."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from fond_echo.cli.files import text_in
from fond_echo.contract.base import JsonObject
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.recognition.scoring import Edits, edits, wilson

SHOWN = {"other": "{said}→{heard}", "missing": "-{said}", "extra": "+{heard}"}


@dataclass(frozen=True)
class Score:
    """Errors in one file, by words and by characters."""

    words: Edits
    characters: Edits

    def as_json(self) -> JsonObject:
        return {
            "words": self.words.length,
            "word_errors": self.words.errors,
            "word_error_rate": round(self.words.rate, 4),
            "character_error_rate": round(self.characters.rate, 4),
            "alignment": [vars(each) for each in self.words.steps],
        }

    def shown(self) -> str:
        """The words in order, errors marked, and their share."""
        line = " ".join(
            SHOWN[each.step].format(said=each.said, heard=each.heard)
            if each.step != "same"
            else each.said
            for each in self.words.steps
        )
        return (
            f"  {line}\n  {self.words.errors} of {self.words.length} words wrong"
            f" ({self.words.rate:.1%}), characters {self.characters.rate:.1%}"
        )


def scored(file: Path, heard: str) -> Score:
    """Raises Unreadable where there is no text beside the file."""
    said = language_of().writing.spoken_tokens(text_in(file.with_suffix(".txt")))
    return Score(edits(said, heard.split()), edits(" ".join(said), heard))


def together(scores: Sequence[Score]) -> str:
    """All files in one line, with the interval of the share."""
    words = sum(score.words.length for score in scores)
    wrong = sum(score.words.errors for score in scores)
    characters = sum(score.characters.length for score in scores)
    off = sum(score.characters.errors for score in scores)
    return (
        f"{len(scores)} files, {words} words: {wilson(min(wrong, words), words)} of words wrong,"
        f" {off / max(1, characters):.1%} of characters"
    )
