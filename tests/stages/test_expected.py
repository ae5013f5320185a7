"""What a sound is held against, by what was offered before."""

import unittest
from datetime import UTC, datetime

from fond_echo.contract.channel import Inbound, SoundHandle
from fond_echo.core.language.en.written import written_text
from fond_echo.documents.digest import digest
from fond_echo.documents.reading import read_assistant
from fond_echo.turns.expected import expected_of
from fond_echo.turns.state import ConversationState
from fond_echo.turns.turn import TurnSoFar

FILES = {
    "assistant.yaml": """\
assistant: desk
routes: [{route: fares, examples: [How much is a cabin?], reply: {text: Four pounds.}}]
fallback: {reply: {text: I know about fares.}}
"""
}


def expected(*choices):
    inbound = Inbound(id="1", conversation="c", contact="c", sound=SoundHandle(handle="s"))
    return expected_of(
        TurnSoFar(
            id="", run_id="", run="live", number=1, channel="", conversation_id="", contact_id="",
            contact_name="", inbound=inbound, assistant=read_assistant(FILES),
            revision=digest(FILES), clock=datetime.now(UTC), seed=0,
            state=ConversationState(choices=list(choices)),
        )
    )  # fmt: skip


class Names(unittest.TestCase):
    def test_a_choice_that_is_a_phrase_lends_no_capitals(self):
        found = expected("Reserve a cabin", "Little Marrow", "Isle of Pell", "Today's sailings")
        self.assertEqual(found.names, ("Little Marrow", "Isle of Pell"))
        self.assertEqual(
            written_text("how much is a cabin".split(), found.names), "How much is a cabin?"
        )
        self.assertEqual(
            written_text("a boat to the isle of pell".split(), found.names),
            "A boat to the Isle of Pell.",
        )

    def test_what_was_offered_can_be_said(self):
        self.assertIn("Reserve a cabin", expected("Reserve a cabin").phrases)


if __name__ == "__main__":
    unittest.main()
