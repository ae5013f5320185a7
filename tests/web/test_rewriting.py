"""Words that went out are written anew, later, on a real (simulated) network."""

import httpx

from tests.support.web import WebTest


class Rewriting(WebTest):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.fill()
        self.posts = self.network_client()

    def network_client(self):
        transport = httpx.ASGITransport(self.network)
        client = httpx.AsyncClient(transport=transport, base_url="http://skerry.test")
        self.addAsyncCleanup(client.aclose)
        return client

    async def answered(self, words="How much is a ticket?"):
        """A text that was answered: its turn, as the API gives it."""
        said = (await self.posts.post("/people/isla/say", json={"words": words})).json()
        await self.send({"posts": [self.post(said["id"], room=said["room"], words=words)]})
        await self.work()
        return (await self.client.get("/api/turns?limit=1")).json()["items"][0]

    async def in_the_room(self):
        posts = (await self.posts.get("/rooms/room-isla/posts")).json()["posts"]
        return [post for post in posts if post["sender"]["automated"]]

    async def test_other_words_and_choices_stand_there_and_can_be_picked(self):
        turn = await self.answered()
        (delivery,) = turn["deliveries"]
        path = f"/api/turns/{turn['id']}/deliveries/{delivery['id']}/text"
        given = {"text": "Four pounds.", "choices": ["When is the next boat to Pell?"]}
        reported = await self.client.put(path, json=given)
        self.assertEqual(reported.status_code, 200, reported.text)
        await self.work()
        (post,) = await self.in_the_room()
        self.assertEqual(post["words"], "Four pounds.")
        self.assertEqual(post["buttons"][0]["label"], given["choices"][0])
        turn = (await self.client.get(f"/api/turns/{turn['id']}")).json()
        kinds = [(each["kind"], each["state"]) for each in turn["deliveries"]]
        self.assertEqual(kinds, [("text", "sent"), ("edit", "sent")])
        by_number = await self.answered("1")
        self.assertEqual(by_number["route"], "next-sailing")

    async def test_what_cannot_be_rewritten_is_refused_with_the_reason(self):
        turn = await self.answered()
        path = f"/api/turns/{turn['id']}/deliveries/{{}}/text"
        words = {"text": "x"}
        self.assert_problem(
            await self.client.put(path.format("none"), json=words), 404, "not-found"
        )
        await self.client.put(
            "/api/channels/desk", json={"kind": "http", "assistant": "harbour-desk"}
        )
        requested = await self.working(
            self.client.post("/ask/desk", json={"text": "What are the fares?"})
        )
        turn = (await self.client.get(f"/api/turns/{requested.json()['turn']}")).json()
        path = f"/api/turns/{turn['id']}/deliveries/{turn['deliveries'][0]['id']}/text"
        reported = self.assert_problem(await self.client.put(path, json=words), 409, "conflict")
        self.assertIn("desk", reported["detail"])
