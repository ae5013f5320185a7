"""What the console must not lose: words being written, a reader's place, the tabs beside it."""

import threading

import httpx
from playwright.sync_api import expect

from fond_echo.client import FondEcho
from tests.support.browser import InABrowser


class Keeping(InABrowser):
    def open_editor(self, page):
        page.goto(f"{self.settings.address}/assistants/gale-line")
        editor = page.get_by_role("textbox", name="The file assistant.yaml")
        expect(editor).to_be_visible()
        return editor

    def write(self, page, line):
        page.get_by_role("textbox", name="The file assistant.yaml").click()
        page.keyboard.press("Control+Home")
        page.keyboard.type(line + "\n")

    def test_what_is_written_outlives_a_step_to_another_page(self):
        page = self.page()
        self.enter(page)
        page.get_by_role("link", name="Assistants").click()
        page.get_by_role("link", name="gale-line").click()
        self.write(page, "# First thoughts")
        expect(page.get_by_text("changed here, not kept yet")).to_be_visible()
        page.get_by_role("link", name="Conversations", exact=True).click()
        expect(page.get_by_role("grid", name="Conversations")).to_be_visible()
        page.get_by_role("link", name="Assistants").click()
        page.get_by_role("link", name="gale-line").click()
        editor = page.get_by_role("textbox", name="The file assistant.yaml")
        expect(editor).to_contain_text("# First thoughts")
        requested = []
        page.on("dialog", lambda dialog: (requested.append(dialog.type), dialog.dismiss()))
        page.close(run_before_unload=True)
        page.wait_for_timeout(500)
        self.assertEqual(requested, ["beforeunload"])

    def test_two_tabs_do_not_write_over_each_other(self):
        first = self.page()
        self.enter(first)
        second = first.context.new_page()
        for page in (first, second):
            self.open_editor(page)
        self.write(first, "# Of the first tab")
        self.write(second, "# Of the second tab")
        first.get_by_role("button", name="Save draft").click()
        expect(first.get_by_text("changed here, not kept yet")).to_have_count(0)
        second.get_by_role("button", name="Save draft").click()
        expect(second.get_by_role("alert")).to_contain_text("meanwhile")
        with FondEcho(self.settings.address, self.key) as echo:
            kept = echo.revision("gale-line", "draft").files["assistant.yaml"]
        self.assertTrue(kept.startswith("# Of the first tab\n"))
        second.get_by_role("button", name="Take the other draft").click()
        editor = second.get_by_role("textbox", name="The file assistant.yaml")
        expect(editor).to_contain_text("# Of the first tab")
        expect(editor).not_to_contain_text("# Of the second tab")
        # Who has written nothing sees what others keep.
        self.write(second, "# And more")
        second.get_by_role("button", name="Save draft").click()
        mine = first.get_by_role("textbox", name="The file assistant.yaml")
        expect(mine).to_contain_text("# And more")

    def test_ten_tabs_are_live(self):
        page = self.page()
        self.enter(page)
        tabs = [page, *(page.context.new_page() for _ in range(9))]
        for tab in tabs[1:]:
            tab.goto(self.settings.address)
        for tab in tabs:
            expect(tab.get_by_role("status").first).to_have_text("connected")
        page.close()
        self.say("is anybody there", "piet")
        for tab in tabs[1:]:
            expect(tab.get_by_text("is anybody there").first).to_be_visible()

    def test_colours_are_remembered(self):
        page = self.page()
        self.enter(page)
        page.get_by_role("button", name="Dark theme").click()
        page.reload()
        expect(page.get_by_role("button", name="Light theme")).to_be_visible()
        self.assertEqual(page.evaluate("document.documentElement.dataset.light"), "night")

    def test_a_part_that_cannot_be_loaded_is_told(self):
        page = self.page()
        page.route("**/assets/assistant-*.js", lambda route: route.abort())
        self.enter(page)
        page.get_by_role("link", name="Assistants").click()
        expect(page.get_by_role("alert")).to_contain_text("This page cannot be shown")
        page.unroute("**/assets/assistant-*.js")
        page.get_by_role("button", name="Load it again").click()
        expect(page.get_by_role("link", name="gale-line")).to_be_visible()

    def test_an_address_leads_to_an_old_turn_and_a_reader_is_left_there(self):
        with FondEcho(self.settings.address, self.key) as echo:
            first = echo.ask("desk", "How much is a ticket?", "reader")
            for number in range(60):
                echo.ask("desk", f"How much are {number} tickets?", "reader")
            turn = echo.turn(first.turn)
            page = self.page()
            self.enter(page)
            page.goto(f"{self.settings.address}/conversations/{turn.conversation}/{turn.id}")
            entry = page.locator(f"[data-turn='{turn.id}']")
            expect(entry).to_be_in_viewport()
            place = "document.querySelector('[aria-label=\"Turns of the conversation\"]').scrollTop"
            before = page.evaluate(place)
            echo.ask("desk", "Is anything new?", "reader")
            expect(page.get_by_text("Is anything new?").first).to_be_attached()
            self.assertEqual(page.evaluate(place), before)
            (contact,) = [
                each for each in echo.contacts("desk").items if each.external_id == "reader"
            ]
            echo.erase_contact("desk", contact.id)
            page.reload()
            expect(entry).to_contain_text("Erased.")

    def test_scripts_go_out_compressed(self):
        page = httpx.get(self.settings.address).text
        name = page.split('src="/assets/')[1].split('"')[0]
        packed = httpx.get(f"{self.settings.address}/assets/{name}")
        plain = httpx.get(
            f"{self.settings.address}/assets/{name}", headers={"Accept-Encoding": "identity"}
        )
        self.assertEqual(packed.headers["content-encoding"], "gzip")
        self.assertNotIn("content-encoding", plain.headers)
        self.assertEqual(packed.content, plain.content)
        self.assertIn("javascript", packed.headers["content-type"])

    def given_back(self):
        """Everybody is answered by the assistant again."""
        with FondEcho(self.settings.address, self.key) as echo:
            for each in echo.conversations(limit=100).items:
                if each.answering == "operator":
                    echo.set_answering(each.id, "assistant")

    def handed_over(self, person):
        """Somebody has asked for a person; the conversation."""
        self.answer_to(self.say("a person, please", person))
        with FondEcho(self.settings.address, self.key) as echo:
            return self.eventually(
                lambda: next(
                    (
                        each
                        for each in echo.conversations(limit=100).items
                        if (each.contact, each.answering) == (person, "operator")
                    ),
                    None,
                )
            )

    def test_words_to_one_are_kept_while_another_is_looked_at_and_never_go_to_them(self):
        self.given_back()
        self.addCleanup(self.given_back)
        for person in ("sunniva", "piet"):
            self.handed_over(person)
        page = self.page()
        self.enter(page)
        list_ = page.get_by_role("grid", name="Conversations")
        strip = page.get_by_label("Who answers")
        list_.get_by_role("row", name="Sunniva Brandt").first.click()
        strip.get_by_label("Your words to Sunniva Brandt").fill("Only for Sunniva")
        list_.get_by_role("row", name="Piet Oduya").first.click()
        expect(strip.get_by_label("Your words to Piet Oduya")).to_have_value("")
        expect(strip.get_by_role("button", name="Send")).to_be_disabled()
        list_.get_by_role("row", name="Sunniva Brandt").first.click()
        box = strip.get_by_label("Your words to Sunniva Brandt")
        expect(box).to_have_value("Only for Sunniva")
        # The log cannot be read for a while: what is open and written stays.
        page.route("**/api/conversations?**", lambda route: route.fulfill(status=503, body="{}"))
        before = self.say("are you there?", "sunniva")
        expect(page.get_by_role("alert")).to_contain_text("The log cannot be read now")
        expect(box).to_have_value("Only for Sunniva")
        strip.get_by_role("button", name="Send").click()
        self.assertEqual(self.answer_to(before)["words"], "Only for Sunniva")
        expect(box).to_have_value("")
        page.unroute("**/api/conversations?**")

    def test_a_conversation_that_others_push_off_the_list_stays_open_and_can_be_answered(self):
        self.given_back()
        self.addCleanup(self.given_back)
        conversation = self.handed_over("sunniva")
        page = self.page()
        # As with very many conversations: one is listed at a time.
        page.route(
            "**/api/conversations?**",
            lambda route: route.continue_(url=route.request.url.replace("limit=100", "limit=1")),
        )
        self.enter(page)
        page.goto(f"{self.settings.address}/conversations/{conversation.id}")
        list_ = page.get_by_role("grid", name="Conversations")
        strip = page.get_by_label("Who answers")
        box = strip.get_by_label("Your words to Sunniva Brandt")
        box.fill("A moment")
        before = self.say("hello?", "sunniva")
        with FondEcho(self.settings.address, self.key) as echo:
            # Others may say something meanwhile; a call that goes on would stay above them.
            self.eventually(lambda: any(t.text == "hello?" for t in echo.turns(limit=20).items))
            for line in ("exchange", "gale-phone"):
                self.eventually(
                    lambda at=line: all(
                        c.state in ("ended", "requested") for c in echo.calls(at).items
                    )
                )
            self.quiet(echo)
        self.answer_to(self.say("How much is a ticket?", "isla"))
        expect(list_.get_by_role("row", name="Isla Quennell")).to_be_visible()
        expect(list_.get_by_role("row", name="Sunniva Brandt")).to_have_count(0)
        expect(box).to_have_value("A moment")
        strip.get_by_role("button", name="Send").click()
        self.assertEqual(self.answer_to(before)["words"], "A moment")
        strip.get_by_role("button", name="Give it back").click()
        expect(strip).to_contain_text("The assistant answers here")

    def test_older_conversations_are_listed_while_others_go_on_talking(self):
        for person in ("isla", "piet"):
            self.answer_to(self.say("How much is a ticket?", person))
        page = self.page()
        page.route(
            "**/api/conversations?**",
            lambda route: route.continue_(url=route.request.url.replace("limit=100", "limit=1")),
        )
        ended = threading.Event()

        def talk():
            with FondEcho(self.settings.address, self.key) as echo:
                while not ended.is_set():
                    echo.ask("desk", "How much is a ticket?", "talker")

        talking = threading.Thread(target=talk)
        talking.start()
        self.addCleanup(talking.join)
        self.addCleanup(ended.set)
        self.enter(page)
        rows = page.get_by_role("grid", name="Conversations").get_by_role("row")
        older = page.get_by_role("button", name="Older conversations")
        for count in (1, 2, 3):
            expect(rows).to_have_count(count)
            if count < 3:
                older.click()
