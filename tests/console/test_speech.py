"""The page on which a text is made sound and its request copied."""

from playwright.sync_api import expect

from tests.support.browser import InABrowser


class Speech(InABrowser):
    def test_a_text_is_heard_and_its_request_follows_what_is_chosen(self):
        page = self.page()
        self.enter(page)
        page.get_by_role("link", name="Speech", exact=True).click()
        page.get_by_label("Text, or SSML").fill("<speak>It's <emphasis>late</emphasis>.</speak>")
        page.get_by_text("petrel", exact=True).click()
        page.get_by_label("Pace, 0.5 to 2").fill("0.8")
        request = page.get_by_role("tabpanel")
        expect(request).to_contain_text('"voice":"petrel","prosody":{"rate":0.8}')
        expect(request).to_contain_text("It'\\''s")
        page.get_by_role("button", name="Hear it").click()
        page.get_by_label("Play: the text as sound").click()
        expect(page.get_by_label("Play: the text as sound")).to_have_attribute(
            "aria-pressed", "true"
        )
        page.get_by_role("tab", name="An answer").click()
        expect(page.get_by_role("tabpanel")).to_contain_text("/sound/")
        page.get_by_role("tab", name="Its schema").click()
        expect(page.get_by_role("tabpanel")).to_contain_text("expires_at")

    def test_markup_that_is_wrong_is_said_with_its_place(self):
        page = self.page()
        self.enter(page)
        page.get_by_role("link", name="Speech", exact=True).click()
        page.get_by_label("Text, or SSML").fill("<speak><shout/></speak>")
        page.get_by_role("button", name="Hear it").click()
        expect(page.get_by_role("alert")).to_contain_text("<shout> is not spoken")
