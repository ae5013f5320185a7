"""Lines by a Python adapter, with the example of the guide."""

import json
import unittest
import unittest.mock
from importlib.metadata import EntryPoint

import httpx

from fond_echo.channels.adapters import load_adapter
from fond_echo.channels.errors import NoAdapter
from fond_echo.connectors.errors import Forged, NoAnswer, Refused, Unreachable
from fond_echo.connectors.secrets import Secret, Vault
from fond_echo.contract.channel import Unreadable
from fond_echo.turns.ports import Outgoing

PIGEON = EntryPoint("pigeon", "docs.examples.pigeon:Pigeon", "fond_echo.channels")
BROKEN = EntryPoint("broken", "nowhere:Nothing", "fond_echo.channels")
VAULT = Vault({"pigeon-ring": Secret("pigeon-ring", "a-ring", frozenset())})
COO = Outgoing("text", "bird-3", "isla", "key-1", text="Coo.")


def loaded(answer, name="pigeon"):
    """The adapter before a loft that answers by a function."""
    client = httpx.AsyncClient(transport=httpx.MockTransport(answer))
    with unittest.mock.patch(
        "fond_echo.channels.adapters.entry_points", return_value=[PIGEON, BROKEN]
    ):
        return load_adapter(name, {"loft": "harbour"}, VAULT, client)


def nothing(request):
    raise AssertionError("nobody is asked")


class Adapters(unittest.IsolatedAsyncioTestCase):
    def test_a_package_offers_one_by_entry_point(self):
        with self.assertRaisesRegex(NoAdapter, "did you mean pigeon"):
            loaded(nothing, "pigeons")
        with self.assertRaisesRegex(NoAdapter, "does not load"):
            loaded(nothing, "broken")

    def test_messages_are_read(self):
        rings = {"rings": [{"ring": "r1", "from": "isla", "note": "Coo."}]}
        ((message, _),) = loaded(nothing).messages(rings)
        self.assertEqual((message.text, message.contact), ("Coo.", "isla"))
        (broken,) = loaded(nothing).messages({"rings": [{"from": "isla"}]})
        self.assertIsInstance(broken, Unreadable)
        self.assertIn("KeyError: 'ring'", broken.reason)

    def test_a_webhook_proves_its_origin(self):
        with self.assertRaises(Forged):
            loaded(nothing).verify({"x-ring": "guess"}, b"coo", 0.0)

    async def test_what_goes_out(self):
        requested = []

        def loft(request):
            requested.append((request.url.path, json.loads(request.content)))
            return httpx.Response(200, json={"number": 4, "flight": 17})

        channel = loaded(loft)
        self.assertEqual(await channel.connect("https://echo.test/x"), {"loft_number": 4})
        self.assertEqual((await channel.send(COO)).external_id, "17")
        self.assertEqual(
            requested[1], ("/flights", {"bird": "bird-3", "note": "Coo.", "once": "key-1"})
        )
        self.assertEqual(channel.abilities.text_characters, 140)

    async def test_errors_say_whether_something_may_have_gone_out(self):
        def raising(error):
            def answer(request):
                raise error

            return answer

        for answer, error, may in (
            (lambda request: httpx.Response(403), Refused, True),
            (raising(httpx.ConnectError("no route")), Unreachable, False),
            (raising(httpx.ReadTimeout("late")), NoAnswer, True),
            (lambda request: httpx.Response(200, json={}), NoAnswer, True),
        ):
            with self.subTest(error=error), self.assertRaises(error) as raised:
                await loaded(answer).send(COO)
            self.assertIs(raised.exception.answered, may)
