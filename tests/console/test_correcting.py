"""A turn that went wrong: beside itself on the draft, corrected and kept, on its page."""

from playwright.sync_api import expect

from fond_echo.client import FondEcho
from tests.support.browser import InABrowser


class Mending(InABrowser):
    def test_a_turn_is_replayed_heard_and_mended_on_its_page(self):
        with FondEcho(self.settings.address, self.key) as echo:
            asked = echo.ask("desk", "Who has seen my brolly?", "maren")
        page = self.page()
        self.enter(page)
        page.goto(f"{self.settings.address}/turns/{asked.turn}")
        page.get_by_role("button", name="On live").click()
        expect(page.get_by_text("Nothing would be different.")).to_be_visible()
        expect(page.get_by_role("img", name="Then: ")).to_be_visible()
        expect(page.get_by_role("img", name="Now: route")).to_be_visible()
        page.get_by_role("button", name="Hear it as it would be").click()
        now = page.get_by_label("As it would be spoken")
        expect(now).to_be_attached()
        page.wait_for_function("(sound) => sound.duration > 0.5", arg=now.element_handle())
        page.get_by_label("Keep it as a case").fill("brolly")
        page.get_by_label("It meant the route").fill("no-such-route")
        page.get_by_role("button", name="Correct it in the draft").click()
        expect(page.get_by_text("there is no route 'no-such-route'")).to_be_visible()
        page.get_by_label("It meant the route").fill("lost-property")
        page.get_by_role("button", name="Correct it in the draft").click()
        expect(page.get_by_text("It stands in the draft, with the case brolly.")).to_be_visible()
        with FondEcho(self.settings.address, self.key) as echo:
            files = dict(echo.draft("harbour-desk").files)
            self.assertIn("Who has seen my brolly?", files["assistant.yaml"])
            del files["cases/brolly.yaml"]
            files["assistant.yaml"] = files["assistant.yaml"].replace(
                '      - "Who has seen my brolly?"\n', ""
            )
            echo.put_assistant("harbour-desk", files)
        self.assertEqual(self.warnings, [])
