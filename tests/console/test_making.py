"""A new assistant and a new channel, made from the console alone."""

from playwright.sync_api import expect

from tests.support.browser import InABrowser


class Making(InABrowser):
    def test_an_assistant_and_a_page_for_it(self):
        page = self.page()
        self.enter(page)
        page.get_by_role("link", name="Assistants").click()
        page.get_by_role("link", name="New assistant").click()
        page.get_by_label("Name").fill("Rope Works")
        page.get_by_role("button", name="Make it").click()
        expect(page.get_by_role("alert")).to_be_visible()
        page.get_by_label("Name").fill("rope-works")
        page.get_by_role("button", name="Make it").click()
        expect(page.get_by_role("heading", name="rope-works")).to_be_visible()
        page.get_by_role("button", name="Publish", exact=True).click()
        expect(page.get_by_text("the draft is live")).to_be_visible()
        page.get_by_role("link", name="Channels").click()
        page.get_by_role("link", name="New channel").click()
        page.get_by_label("Name").fill("rope-door")
        page.get_by_text("rope-works", exact=True).click()
        page.get_by_role("button", name="Make it").click()
        expect(page.get_by_role("heading", name="rope-door")).to_be_visible()
        expect(page.get_by_text("answered by rope-works")).to_be_visible()
        with page.context.expect_page() as opened:
            page.get_by_role("link", name="Open the page").click()
        guest = opened.value
        guest.get_by_label("What to ask").fill("When are you open?")
        guest.get_by_role("button", name="Send").click()
        expect(guest.get_by_text("We are open from nine to five")).to_be_visible()
        page.get_by_role("link", name="New channel").click()
        page.get_by_label("Name").fill("rope-net")
        page.get_by_text("a chat network").click()
        page.get_by_label("Connector file").fill("network: rope")
        page.get_by_role("button", name="Make it").click()
        expect(page.get_by_role("alert")).to_contain_text("receive")
        self.assertEqual(self.warnings, [])
