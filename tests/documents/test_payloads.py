"""Messages of a network side by side."""

import unittest

from fond_echo.documents.connector import MessageMap, Receive
from fond_echo.documents.payloads import draft, fields, kind_of, messages_in, one_kind_only

POSTS = [
    {"id": "p1", "room": "r1", "sender": {"id": "isla", "name": "Isla", "automated": False},
     "words": "hello"},
    {"id": "p2", "room": "r1", "sender": {"id": "isla", "name": "Isla", "automated": False},
     "sound": {"handle": "h1", "as": "note", "length": 2.4}},
    {"id": "p3", "room": "r2", "sender": {"id": "piet", "name": "Piet", "automated": False},
     "press": {"value": "fares", "of": "p1"}},
]  # fmt: skip
SKERRY = {"id": "$.id", "conversation": "$.room", "contact": "$.sender.id", "name": "$.sender.name",
          "text": "$.words", "choice": "$.press.value", "sound": "$.sound.handle",
          "sound_kind": "$.sound.as", "seconds": "$.sound.length"}  # fmt: skip
RECEIVE = Receive.model_validate(
    {"poll": {"get": "{{ base }}/x", "cursor": "$.n"}, "each": "$.posts[*]", "message": SKERRY}
)


class Side(unittest.TestCase):
    def setUp(self):
        found = messages_in({"posts": POSTS}, RECEIVE.each)
        self.messages = [(kind_of(each, RECEIVE), each) for each in found]

    def test_kinds_and_where_each_field_is(self):
        self.assertEqual([kind for kind, _ in self.messages], ["text", "voice note", "button"])
        by_path = {each.path: each for each in fields(self.messages, RECEIVE.message)}
        self.assertEqual(by_path["$.id"].there["button"], 1)
        self.assertEqual(by_path["$.words"].there["voice note"], 0)
        self.assertEqual((by_path["$.words"].mapped, by_path["$.press.of"].mapped), ("text", ""))

    def test_a_draft_of_the_mapping(self):
        wanted = {name: path for name, path in SKERRY.items() if name != "sound_kind"}
        self.assertEqual(draft(self.messages), wanted)
        self.assertNotIn("conversation", draft([("other", {"id": 1, "text": "x"})]))

    def test_what_is_mapped_where_one_kind_has_it(self):
        wrong = MessageMap.model_validate({**SKERRY, "conversation": "$.press.of"})
        self.assertEqual(
            one_kind_only(self.messages, wrong), [("conversation", "$.press.of", "button")]
        )
        self.assertEqual(one_kind_only(self.messages, RECEIVE.message), [])


if __name__ == "__main__":
    unittest.main()
