"""Two web processes over one database, as behind a proxy that sends each request to either."""

import json
import threading
from concurrent.futures import ThreadPoolExecutor

import httpx

from bench.webhooks import signed
from fond_echo.client import FondEcho
from fond_echo.demo import run as demo
from fond_echo.running.supervisor import Part, Supervisor
from tests.support.demo import Demo


class TwoWebs(Demo):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        port = demo.free_port()
        first = next(part for part in cls.world.supervisor.parts if part.name == "web")
        cls.other = f"http://127.0.0.1:{port}"
        environment = {**first.environment, "FOND_ECHO_PORT": str(port)}
        second = Part("web 2", first.module, first.arguments, environment, f"{cls.other}/health")
        beside = Supervisor([second], lambda news: None)
        beside.start()
        cls.addClassCleanup(beside.stop)

    def post_webhook(self, address: str, number: str, person: str) -> httpx.Response:
        """One text of a person's, as the network signs it."""
        body, headers = signed(self.places.network_mark, number, person)
        return httpx.post(
            f"{address}/webhooks/skerry", content=body, headers=headers, trust_env=False, timeout=60
        )

    def test_who_signed_in_at_one_is_signed_in_at_the_other_and_out_at_both(self):
        with httpx.Client(trust_env=False, timeout=60) as browser:
            first, other = self.settings.address, self.other
            signed_in = browser.post(
                f"{first}/api/me", json={"key": self.key}, headers={"Origin": first}
            )
            self.assertEqual(signed_in.status_code, 200)
            cookie = "; ".join(f"{name}={value}" for name, value in browser.cookies.items())
            known = httpx.get(f"{other}/api/me", headers={"Cookie": cookie}, trust_env=False)
            self.assertEqual(known.json()["csrf_token"], signed_in.json()["csrf_token"])
            mark = {"X-CSRF-Token": known.json()["csrf_token"], "Origin": other}
            out = httpx.delete(
                f"{other}/api/me", headers={"Cookie": cookie, **mark}, trust_env=False
            )
            self.assertEqual(out.status_code, 204)
            self.assertEqual(browser.get(f"{first}/api/me").status_code, 401)

    def test_one_message_that_comes_to_both_at_once_is_one_turn(self):
        for number in range(10):
            places = (self.settings.address, self.other)
            with ThreadPoolExecutor(2) as pool:
                answers = list(
                    pool.map(
                        lambda place, n=number: self.post_webhook(place, f"twice-{n}", "piet"),
                        places,
                    )
                )
            self.assertEqual([each.status_code for each in answers], [202, 202])
            self.assertEqual(sum(each.json()["new"] for each in answers), 1)

    def test_events_of_one_are_followed_at_the_other(self):
        turns, ready = [], threading.Event()
        headers = {"Authorization": f"Bearer {self.key}"}

        def follow() -> None:
            with httpx.stream(
                "GET", f"{self.other}/api/events", headers=headers, trust_env=False, timeout=60
            ) as events:
                ready.set()
                for line in events.iter_lines():
                    if line.startswith("data:"):
                        event = json.loads(line[5:])
                        if event["type"].endswith("turn.answered"):
                            turns.append(event["subject"])
                            return

        following = threading.Thread(target=follow, daemon=True)
        following.start()
        self.assertTrue(ready.wait(30))
        with FondEcho(self.settings.address, self.key) as echo:
            asked = echo.ask("desk", "How much is a ticket?", "two-webs")
        following.join(30)
        self.assertIn(asked.turn, turns)

    def test_one_request_made_twice_at_both_is_answered_once(self):
        headers = {"Authorization": f"Bearer {self.key}", "Idempotency-Key": "two-webs-1"}

        def ask(address: str) -> httpx.Response:
            return httpx.post(
                f"{address}/ask/desk", json={"text": "How much is a ticket?"},
                headers=headers, trust_env=False, timeout=60,
            )  # fmt: skip

        with ThreadPoolExecutor(4) as pool:
            answers = list(pool.map(ask, [self.settings.address, self.other] * 2))
        self.assertEqual([each.status_code for each in answers], [200] * 4)
        self.assertEqual(len({each.json()["turn"] for each in answers}), 1)

    def test_whom_one_blocks_the_other_does_not_let_in(self):
        self.post_webhook(self.settings.address, "block-1", "tobin")
        with FondEcho(self.settings.address, self.key) as echo:
            contact = self.eventually(
                lambda: next(
                    (each for each in echo.contacts("skerry").items if each.external_id == "tobin"),
                    None,
                )
            )
            echo.set_standing("skerry", contact.id, "blocked")
            answer = self.post_webhook(self.other, "block-2", "tobin")
            self.assertEqual(answer.json()["new"], 0)
            echo.set_standing("skerry", contact.id, "new")
        self.assertEqual(self.post_webhook(self.other, "block-3", "tobin").json()["new"], 1)
