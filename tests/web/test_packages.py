"""Whole assistants in one file: packed, looked at, unpacked elsewhere."""

import json

from sqlalchemy import text

from fond_echo.documents.packing import hosts_in, secrets_in
from tests.support.engines import engine_file
from tests.web.test_commands import Commands

USES = "engines: {answer: [harbour-mind, built-in]}\n"


class Packages(Commands):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.fill()
        secret = {"value": "the-value-of-it", "hosts": ["gannet.test"]}
        await self.client.put("/api/secrets/gannet-pass", json=secret)
        engine = {
            "connector": engine_file("harbour-mind"),
            "values": {"base": "http://gannet.test"},
        }
        await self.client.put("/api/engines/harbour-mind", json=engine)
        files = (await self.client.get("/api/assistants/harbour-desk/draft")).json()["files"]
        files["assistant.yaml"] += USES
        await self.client.put("/api/assistants/harbour-desk/draft", json={"files": files})
        await self.client.post("/api/assistants/harbour-desk/publish")
        self.package = self.folder / "desk.json"

    async def elsewhere(self):
        """A service in which there is nothing of it."""
        async with self.database.writing() as session:
            for table in ("channels", "revisions", "assistants", "engines", "secrets"):
                await session.execute(text(f"TRUNCATE {table} CASCADE"))

    async def test_it_goes_from_one_service_to_another_without_its_secrets(self):
        out = await self.says("assistant", "pack", "harbour-desk", "--write", self.package)
        self.assertIn("1 engines, 1 channels", out)
        self.assertIn("gannet-pass, for gannet.test", out)
        packed = self.package.read_text()
        for value in ("the-value-of-it", "bot-token"):
            self.assertNotIn(value, packed)
        names = {each["name"] for each in json.loads(packed)["secrets"]}
        self.assertEqual(names, {"gannet-pass", "skerry-token", "skerry-mark", "timetable-mark"})
        await self.elsewhere()
        # What is missing is said before anything is stored.
        missing = await self.fails("assistant", "unpack", self.package, "--publish")
        self.assertRegex(missing, r"the secret [a-z-]+ is not here")
        self.assertEqual((await self.client.get("/api/assistants")).json(), [])
        self.assertEqual((await self.client.get("/api/secrets")).json(), [])
        given = []
        for name in names:
            path = self.file(name, "bot-token" if name == "skerry-token" else "a-word")
            given += ["--secret", f"{name}={path}"]
        out = await self.says("assistant", "unpack", self.package, "--publish", *given)
        self.assertIn("the channel skerry is", out)
        self.assertIn("connected the engine harbour-mind", out)
        again = json.loads(await self._packed_again())
        first = json.loads(packed)
        for part in ("files", "engines", "channels", "secrets", "hosts_reached", "functions"):
            self.assertEqual(again[part], first[part], part)

    async def _packed_again(self):
        await self.says("assistant", "pack", "harbour-desk", "--write", self.package)
        return self.package.read_text()

    async def test_names_that_are_taken_and_packages_that_are_none(self):
        await self.says("assistant", "pack", "harbour-desk", "--write", self.package)
        package = json.loads(self.package.read_text())
        package["files"]["assistant.yaml"] += "# another\n"
        self.package.write_text(json.dumps(package))
        taken = await self.fails("assistant", "unpack", self.package)
        self.assertIn("the assistant harbour-desk is here, with other files", taken)
        mark = ("--secret", f"timetable-mark={self.file('mark', 'a-word')}")
        await self.says("assistant", "unpack", self.package, "--replace", *mark)
        for change, what in (
            ({"package": 2}, "reads up to 1"), ({"files": {}}, "is no package: files"),
            ({"files": {"assistant.yaml": "assistant: x"}}, "fallback"),
        ):  # fmt: skip
            with self.subTest(what=what):
                self.package.write_text(json.dumps(package | change))
                self.assertIn(what, await self.fails("assistant", "unpack", self.package))
        package["channels"]["skerry"]["assistant"] = "somebody-else"
        self.package.write_text(json.dumps(package))
        wrong = await self.fails("assistant", "unpack", self.package, "--replace")
        self.assertIn("is answered by somebody-else", wrong)

    def test_what_a_file_refers_to(self):
        told = "a: {secret: one}\nb: ['{{ secrets.two }}', {c: {secret: three}}]\nd: https://x.test:8/y\n"
        self.assertEqual(secrets_in(told), {"one", "two", "three"})
        self.assertEqual(hosts_in(told, {"base": "http://z.test"}), {"x.test:8", "z.test"})
