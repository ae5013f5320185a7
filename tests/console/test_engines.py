"""The page of outside engines."""

from playwright.sync_api import expect

from tests.support.browser import InABrowser
from tests.support.engines import engine_file


class Engines(InABrowser):
    def test_an_engine_is_connected_shown_and_disconnected(self):
        page = self.page()
        self.enter(page)
        page.get_by_role("link", name="Engines", exact=True).click()
        text = engine_file("harbour-mind").replace("engine: harbour-mind", "engine: quay-mind")
        page.get_by_label("Connector file").fill(text.replace("$.thought", "$.["))
        page.get_by_label("Its base address").fill("http://quay.test")
        page.get_by_role("button", name="Connect quay-mind").click()
        expect(page.get_by_role("alert")).to_contain_text("JSONPath")
        page.get_by_label("Connector file").fill(text)
        page.get_by_role("button", name="Connect quay-mind").click()
        page.get_by_role("button", name="quay-mind", exact=True).click()
        expect(page.get_by_role("heading", name="quay-mind")).to_be_visible()
        page.get_by_label("A question").fill("Why is the sea salt?")
        page.get_by_role("button", name="Ask it once").click()
        table = page.get_by_role("grid", name="Engines asked").or_(
            page.get_by_role("table", name="Engines asked")
        )
        expect(table).to_contain_text("failed")
        page.get_by_role("button", name="Disconnect quay-mind").click()
        expect(page.get_by_role("button", name="quay-mind", exact=True)).to_have_count(0)
