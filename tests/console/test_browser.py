"""The console and the guests' page in a browser, over the running demo."""

import re
import time

from playwright.sync_api import expect

from fond_echo.client import FondEcho
from fond_echo.core.audio.containers import encode
from fond_echo.standins.providers.drawing import draw
from tests.sounds import speech
from tests.support.browser import WAIT_SECONDS, InABrowser


class InTheBrowser(InABrowser):
    def test_a_wrong_key_is_told_and_a_right_one_opens_the_log(self):
        page = self.page()
        page.goto(self.settings.address)
        page.get_by_label("Key").fill("fe-not-a-key")
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_text("the key is not valid")).to_be_visible()
        self.say("hello", "piet")
        self.enter(page)
        expect(page.get_by_role("status")).to_have_text("connected")
        page.reload()
        expect(page.get_by_role("grid", name="Conversations")).to_be_visible()
        page.get_by_role("button", name="Sign out").click()
        expect(page.get_by_label("Key")).to_be_visible()
        self.assertEqual(self.warnings, [])

    def test_turns_are_written_as_they_happen_with_stages_and_sound(self):
        self.answer_to(self.say("How much is a ticket?"))
        page = self.page()
        self.enter(page)
        page.get_by_role("row", name="Isla Quennell").click()
        book = page.get_by_label("Turns of the conversation")
        expect(book.get_by_text("How much is a ticket?").first).to_be_visible()
        sound = encode(speech("When is the next boat to Little Marrow?", "curlew"), "ogg")
        self.network.post("/people/isla/record", content=sound)
        entry = book.get_by_role("article").filter(
            has_text="When is the next boat to Little Marrow?"
        )
        expect(entry).to_contain_text("leaves")
        expect(entry).to_contain_text("route next-sailing")
        expect(entry.get_by_role("slider")).to_have_count(2)
        entry.get_by_role("link", name="stages").click()
        sheet = page.get_by_label("Stages of the turn")
        for stage in (
            "fetch",
            "decode",
            "transcribe",
            "route",
            "answer",
            "speak",
            "encode",
            "deliver",
        ):
            expect(
                sheet.get_by_role("listitem").filter(has_text=re.compile(f"^{stage}")).first
            ).to_be_visible()
        expect(sheet.get_by_role("img", name="Lengths of the stages")).to_be_visible()
        play = entry.get_by_role("button", name="Play: the answer")
        play.click()
        deadline = time.monotonic() + WAIT_SECONDS
        places = "() => [...document.querySelectorAll('audio')].map((each) => each.currentTime)"
        while max(page.evaluate(places)) < 0.2:
            self.assertLess(time.monotonic(), deadline, "nothing plays")
            page.wait_for_timeout(50)
        self.assertEqual(self.warnings, [])

    def test_the_log_can_be_walked_by_keyboard_alone(self):
        self.answer_to(self.say("How much is a ticket?"))
        self.answer_to(self.say("Lost property", "piet"))
        page = self.page()
        self.enter(page)
        first = page.get_by_role("row").first
        first.focus()
        before = page.url
        page.keyboard.press("ArrowDown")
        page.wait_for_url(lambda url: url != before)
        expect(page.get_by_role("link", name="stages").first).to_be_visible()
        for _ in range(14):
            page.keyboard.press("Tab")
            if page.evaluate("document.activeElement?.textContent") == "stages":
                break
        page.keyboard.press("Enter")
        expect(page.get_by_label("Stages of the turn")).to_be_visible()

    def test_a_passenger_records_in_the_stand_ins_page(self):
        page = self.page(permissions=["microphone"])
        page.goto(self.places.network)
        page.get_by_label("Who you are").select_option("piet")
        page.get_by_role("button", name="Record").click()
        page.get_by_role("button", name="Stop and send").wait_for()
        page.wait_for_timeout(3_200)
        page.get_by_role("button", name="Stop and send").click()
        mine = page.locator(".post.mine").last
        expect(mine).to_contain_text("Voice note")
        deadline = time.monotonic() + WAIT_SECONDS
        with FondEcho(self.settings.address, self.key) as echo:
            while True:
                turns = echo.turns(channel="skerry", limit=10).items
                turn = next(each for each in turns if each.contact_name == "Piet Oduya")
                if turn.sound and turn.finished_at and turn.text.endswith("Brannick?"):
                    break
                self.assertLess(time.monotonic(), deadline, turn)
                page.wait_for_timeout(100)
        self.assertEqual(turn.route, "next-sailing")
        answer = page.locator(".post:not(.mine)").last
        expect(answer).to_contain_text("Voice note")
        self.assertEqual(self.warnings, [])

    def test_an_assistant_is_written_checked_tried_and_published(self):
        page = self.page(permissions=["microphone"])
        self.enter(page)
        page.get_by_role("link", name="Assistants").click()
        page.get_by_role("link", name="harbour-desk").click()
        expect(page.get_by_role("heading", name="harbour-desk")).to_be_visible()
        page.get_by_label("Say something").fill("book two bicycle places to Pell")
        page.get_by_role("button", name="Try", exact=True).click()
        tried = page.get_by_label("What was tried")
        expect(tried).to_contain_text("For which day?")
        page.get_by_label("Say something").fill("is it expensive to take my bike")
        page.get_by_role("button", name="Reset").click()
        page.get_by_role("button", name="Try", exact=True).click()
        expect(page.get_by_label("Score of fares")).to_be_visible()
        page.get_by_role("button", name="Record").click()
        page.wait_for_timeout(3_200)
        page.get_by_role("button", name=re.compile("Stop")).click()
        page.get_by_role("button", name="Try the recording").click()
        expect(tried).to_contain_text("When is the next boat to Brannick?")
        expect(tried).to_contain_text("heard in a recording")
        page.get_by_role("button", name="sounds/horn.ogg").click()
        horn = page.get_by_label("sounds/horn.ogg")
        expect(horn).to_have_js_property("readyState", 4)
        self.assertGreater(horn.evaluate("(each) => each.duration"), 2)
        page.get_by_role("button", name="gale-line").or_(
            page.get_by_role("link", name="gale-line")
        ).click()
        expect(page.get_by_role("heading", name="gale-line")).to_be_visible()
        editor = page.get_by_role("textbox", name="The file assistant.yaml")
        editor.click()
        page.keyboard.press("Control+Home")
        page.keyboard.type("oops: 1\n")
        expect(page.get_by_label("Findings")).to_contain_text("there is no field 'oops' here")
        expect(page.get_by_role("button", name="Publish")).to_be_disabled()
        page.keyboard.press("Control+Home")
        for _ in range(8):
            page.keyboard.press("Delete")
        page.keyboard.type("# Kept by the console\n")
        expect(page.get_by_label("Findings")).not_to_contain_text("oops")
        page.get_by_role("button", name="Publish").click()
        expect(page.get_by_label("Revisions")).to_contain_text("live")
        with FondEcho(self.settings.address, self.key) as echo:
            files = echo.revision("gale-line", "live").files
        self.assertTrue(files["assistant.yaml"].startswith("# Kept by the console\n"))
        self.assertEqual(self.warnings, [])

    def test_a_person_answers_in_the_log(self):
        self.answer_to(self.say("a person, please", "sunniva"))
        page = self.page()
        self.enter(page)
        page.get_by_role("row", name="Sunniva Brandt").first.click()
        strip = page.get_by_label("Who answers")
        expect(strip).to_contain_text("An operator answers here")
        before = self.say("are you there?", "sunniva")
        strip.get_by_label("Your words to Sunniva Brandt").fill("Maren here.")
        strip.get_by_role("button", name="Send").click()
        self.assertEqual(self.answer_to(before)["words"], "Maren here.")
        strip.get_by_role("button", name="Give it back").click()
        expect(strip).to_contain_text("The assistant answers here")
        self.assertIn(
            "Adult", self.answer_to(self.say("How much is a ticket?", "sunniva"))["words"]
        )

    def test_lines_are_seen_tried_and_copied_from(self):
        page = self.page()
        self.enter(page)
        page.get_by_role("link", name="Channels").click()
        page.get_by_role("link", name=re.compile("^desk")).click()
        page.get_by_label("Ask it something").fill("How much is a ticket?")
        page.get_by_role("button", name="Ask", exact=True).click()
        expect(page.get_by_label("The answer")).to_contain_text("Adult")
        page.get_by_role("button", name="Put a new key in").click()
        expect(page.locator("pre[aria-label=curl]")).to_contain_text("Bearer fe-")
        page.get_by_role("button", name="See the turn").click()
        expect(page.get_by_role("heading", name="How much is a ticket?")).to_be_visible()
        page.get_by_role("button", name=re.compile("answer")).click()
        expect(page.get_by_text("came out").locator("visible=true").first).to_be_visible()
        self.assertEqual(self.warnings, [])

    def test_a_refused_contact_is_let_in_with_one_step(self):
        import httpx

        httpx.post(f"{self.places.second}/people/sunniva", json={"body": "Hello"})
        page = self.page()
        self.enter(page)
        page.goto(f"{self.settings.address}/channels/spindrift")
        row = page.get_by_role("row").filter(has_text="sunniva")
        expect(row).to_be_visible()
        row.get_by_role("button", name="Allow").click()
        expect(row).to_have_count(0)
        with FondEcho(self.settings.address, self.key) as echo:
            allowed = echo.contacts("spindrift", "allowed").items
        self.assertIn("sunniva", [each.external_id for each in allowed])

    def test_keys_are_made_and_revoked(self):
        page = self.page()
        self.enter(page)
        page.get_by_role("link", name="Keys and events").click()
        page.get_by_label("Name of a new key").fill("wall-display")
        page.get_by_role("button", name="Create key").click()
        shown = page.get_by_label("the key wall-display", exact=True)
        expect(shown).to_contain_text("fe-")
        with FondEcho(self.settings.address, shown.inner_text().strip()) as echo:
            self.assertEqual(echo.me().scopes, ["read"])
        page.get_by_role("button", name="Revoke wall-display").click()
        expect(page.get_by_role("row").filter(has_text="wall-display")).to_contain_text("revoked")
        self.say("hello")
        expect(page.get_by_label("Events")).to_contain_text("turn.received")

    def test_a_guest_sends_a_picture_that_business_logic_gets(self):
        page = self.page()
        page.goto(self.world.page)
        with page.expect_file_chooser() as chosen:
            page.get_by_role("button", name="Attach").click()
        picture = {"name": "umbrella.png", "mimeType": "image/png", "buffer": draw("an umbrella")}
        chosen.value.set_files(picture)
        expect(page.get_by_text("with Maren Aldous at the harbour office")).to_be_visible()
        expect(page.get_by_text("umbrella.png")).to_be_visible()
        with page.expect_file_chooser() as chosen:
            page.get_by_role("button", name="Attach").click()
        chosen.value.set_files({**picture, "buffer": b"\0" * 6_000_000})
        expect(page.get_by_role("alert")).to_contain_text("too big")
        inside = self.page()
        self.enter(inside)
        inside.get_by_role("row", name="Guest").first.click()
        shown = inside.get_by_label("Files that came with it").get_by_role("img")
        expect(shown).to_be_visible()
        self.assertGreater(shown.evaluate("image => image.naturalWidth"), 0)
        inside.get_by_role("link", name="stages").first.click()
        inside.get_by_role("img", name="Lengths of the stages").wait_for()
        expect(inside.get_by_label("Files that came with it")).to_have_count(2)
        self.assertEqual(self.warnings, [])

    def test_a_guest_records_listens_to_it_and_hears_the_answer(self):
        page = self.page(permissions=["microphone"], is_mobile=True)
        page.set_viewport_size({"width": 390, "height": 780})
        page.goto(self.world.page)
        page.get_by_role("button", name="Record").click()
        expect(page.get_by_role("meter", name="Level")).to_be_visible()
        page.wait_for_timeout(3_200)
        page.get_by_role("button", name="Stop").click()
        expect(page.get_by_label("Your recording")).to_be_visible()
        page.get_by_role("button", name="Send it").click()
        expect(page.get_by_label("The answer")).to_be_visible()
        expect(page.get_by_text("When is the next boat to Brannick?")).to_be_visible()
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 390)
        page.reload()
        expect(page.get_by_text("heard from your recording")).to_be_visible()
        page.get_by_label("What to ask").fill("What are the fares?")
        page.get_by_role("button", name="Send").click()
        expect(page.get_by_text("Adult").last).to_be_visible()
        self.assertEqual(self.warnings, [])
