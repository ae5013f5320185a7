"""The telephone of the console, and a call's page."""

import re

from playwright.sync_api import expect

from fond_echo.client import FondEcho
from tests.support.browser import InABrowser


class Telephone(InABrowser):
    def test_a_line_is_called_from_its_page_and_the_call_is_seen_and_heard(self):
        page = self.page()
        self.enter(page)
        page.get_by_role("link", name="Channels").click()
        page.get_by_role("link", name=re.compile("exchange")).click()
        expect(page.get_by_text("tern-telephones", exact=True)).to_be_visible()
        expect(page.get_by_text("registered", exact=True).first).to_be_visible()
        page.get_by_role("button", name="Call", exact=True).click()
        expect(page.get_by_text("talking", exact=True)).to_be_visible()
        page.get_by_role("button", name="3", exact=True).click()
        with FondEcho(self.settings.address, self.key) as echo:
            call = self.eventually(lambda: self.call_with_a_key(echo))
            page.wait_for_timeout(1_500)
            page.get_by_role("button", name="Hang up").click()
            expect(page.get_by_text("over", exact=True)).to_be_visible()
            call = self.eventually(lambda: self.ended(echo, call.id))
        self.assertEqual((call.cause, call.by), ("hung-up", "them"))
        page.goto(f"{self.settings.address}/calls/{call.id}")
        expect(page.get_by_role("heading", name="Call from console")).to_be_visible()
        expect(page.get_by_role("img", name=re.compile("Both sides of the call"))).to_be_visible()
        rows = page.get_by_role("row")
        expect(rows.filter(has_text="pressed").first).to_contain_text("3")
        expect(rows.filter(has_text="the greeting").first).to_contain_text("stages")
        length = page.evaluate(
            """async () => { const audio = document.querySelector("audio");
            while (!audio.duration) await new Promise((go) => setTimeout(go, 50));
            return audio.duration; }"""
        )
        # What a busy machine could not hear in time is not in it.
        self.assertTrue(1.0 < length < call.seconds + 1.0, (length, call.seconds))
        self.assertEqual(self.warnings, [])

    def call_with_a_key(self, echo):
        for each in echo.calls("exchange").items:
            call = echo.call(each.id)
            if call.caller == "console" and "key" in [reported.kind for reported in call.timeline]:
                return call
        return None

    def ended(self, echo, call_id):
        call = echo.call(call_id)
        return call if call.state == "ended" else None

    def test_who_is_not_signed_in_calls_nobody(self):
        from websockets.exceptions import ConnectionClosed
        from websockets.sync.client import connect

        address = self.settings.address.replace("http", "ws") + "/api/channels/exchange/talk"
        for origin in (self.settings.address, "http://elsewhere.example"):
            with connect(address, origin=origin) as socket, self.assertRaises(ConnectionClosed):
                socket.recv(timeout=20)
            self.assertEqual(socket.close_code, 4401)
