"""What a sender is told when a stage failed: friendly words, never the error itself."""

from __future__ import annotations

from fond_echo.contract.reply import Reply

GENERAL = "Sorry, something went wrong on our side. Please try again in a moment."

APOLOGIES = {
    "sound-not-fetched": "Sorry, I could not get your recording. Please send it again.",
    "sound-empty": "Your recording arrived empty. Please send it again.",
    "sound-silent": "I could not hear anything in your recording. Please try again.",
    "sound-unknown": "Sorry, I cannot listen to that kind of file. A voice note or a text works.",
    "sound-broken": "Sorry, your recording arrived damaged. Please send it again.",
    "sound-too-long": "Sorry, that recording is too long for me. Please send it in shorter parts.",
    "nothing-heard": "I could not hear any words in your recording. Please try again.",
    "other": "I understand texts and voice notes. Please send me one of those.",
    "logic-failed": "Sorry, I cannot look that up just now. Please try again in a moment.",
}
"""By the code of the error; any other gets the general words."""


def apology(code: str) -> Reply:
    """The friendly reply to an error of a kind."""
    return Reply(text=APOLOGIES.get(code, GENERAL))
