"""Answers in pieces: server-sent events and lines of JSON."""

import unittest

from fond_echo.connectors.errors import WrongAnswer
from fond_echo.connectors.streaming import StreamReader
from fond_echo.documents.steps import Step, Stream


class Kept:
    def __init__(self):
        self.pieces = []

    async def piece(self, text):
        self.pieces.append(text)


async def lines_of(text):
    for line in text.split("\n"):
        yield line


class Streams(unittest.IsolatedAsyncioTestCase):
    async def read(self, text, take=None, **fields):
        stream = Stream.model_validate({"as": "events", "piece": "$.more", **fields})
        self.listener = Kept()
        reader = StreamReader(stream, take or {}, self.listener)
        await reader.read(lines_of(text), "GET here")
        return reader

    async def test_events_with_comments_and_an_end(self):
        text = ': hello\n\nevent: word\ndata: {"more": "The "}\n\ndata:{"more":\ndata: "boat."}\n\n'
        text += 'data: {"state": 1}\n\ndata: {"state": 2}\n\ndata: over\n\ndata: {"more": "not this"}\n\n'
        reader = await self.read(text, {"state": "$.state"}, end="over")
        self.assertEqual(self.listener.pieces, ["The ", "boat."])
        self.assertEqual(reader.taken("x"), {"state": 2, "streamed": "The boat."})

    async def test_lines(self):
        text = '{"more": "a"}\n\n{"more": "b", "why": null}\n{"why": "c"}'
        reader = await self.read(text, {"why": "$.why"}, **{"as": "lines"})
        self.assertEqual(reader.taken("x"), {"why": "c", "streamed": "ab"})

    async def test_one_that_stops_before_its_end(self):
        with self.assertRaisesRegex(WrongAnswer, "stops before 'over'"):
            await self.read('data: {"more": "The bo"}\n', end="over")
        self.assertEqual(self.listener.pieces, ["The bo"])

    async def test_what_is_no_json_and_what_never_comes(self):
        with self.assertRaisesRegex(WrongAnswer, "not JSON"):
            await self.read("data: {more\n\n")
        reader = await self.read('data: {"more": "x"}\n\n', {"why": "$.why"})
        with self.assertRaisesRegex(WrongAnswer, r"nothing at \$\.why"):
            reader.taken("x")
        await self.read('data: {"more": 3}\n\ndata: []\n\n')
        self.assertEqual(self.listener.pieces, [])

    def test_it_is_not_polled_for_as_well(self):
        step = {"get": "{{ base }}/x", "stream": {"as": "lines", "piece": "$.a"}}
        self.assertTrue(Step.model_validate(step).stream)
        with self.assertRaisesRegex(ValueError, "has no until"):
            Step.model_validate({**step, "base64": "$.b"})


if __name__ == "__main__":
    unittest.main()
