"""The page of outside engines."""

from playwright.sync_api import expect

from fond_echo.client import FondEcho
from fond_echo.contract.bench import BenchAnswer, BenchIn
from tests.support.browser import InABrowser
from tests.support.engines import engine_file


class Engines(InABrowser):
    def test_a_bench_is_ranked_and_shown_word_by_word(self):
        answers = [
            {"engine": engine, "file": file, "said": "the boat to pell is late", "text": text,
             "seconds": wait, "cost": 0.001}
            for engine, file, text, wait in (
                ("quick-one", "a.ogg", "the goat to pell late", 0.1),
                ("slow-one", "a.ogg", "the boat to pell is late", 0.9),
            )
        ]  # fmt: skip
        with FondEcho(self.settings.address, self.key) as echo:
            echo.put_bench("week-48", BenchIn(does="transcribe"))
            echo.add_bench_answers("week-48", [BenchAnswer(**each) for each in answers])
        self.addCleanup(self.delete_bench)
        page = self.page()
        self.enter(page)
        page.get_by_role("link", name="Engines", exact=True).click()
        expect(page.get_by_role("heading", name="week-48")).to_be_visible()
        rows = page.get_by_role("row").filter(has_text="-one")
        expect(rows.nth(0)).to_contain_text("slow-one0.0 %")
        expect(rows.nth(1)).to_contain_text("quick-one33.3 %")
        expect(page.get_by_text("2 of 6 wrong in a.ogg")).to_contain_text("boat goat")

    def delete_bench(self):
        with FondEcho(self.settings.address, self.key) as echo:
            echo.delete_bench("week-48")

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
