"""What is answered outside of the assistant's hours, and which passage was meant."""

from datetime import UTC, datetime

from tests.support.driving import Driving

TODAY = datetime.now(UTC).strftime("%Y-%m-%d")

DESK = """\
assistant: test-desk
voice: tern
hours:
  open: {mon-sun: "00:00-24:00"}
  closed: [2026-12-25]
operator: Somebody will be with you.
operator_closed: Nobody is there until {{ hours.opens_at }}.
routes:
  - route: book
    examples: [Book a place.]
    slots: {island: {kind: text, ask: Where to?}}
    closed: The desk is closed.
    reply: {text: "Booked to {{ slots.island }}."}
  - route: fares
    examples: [How much is a ticket?]
    reply: {text: "Four pounds{{ '' if hours.open else ', when we are open' }}."}
  - route: rules
    examples: [What are the rules on board?]
    reply: {documents: [rules.md]}
fallback:
  reply: {text: I know about boats.}
"""
RULES = "# Rules\n\n## Dogs on board\n\nRules for dogs.\n\n## Cats on board\n\nRules for cats.\n"


class Closed(Driving):
    assistant = DESK

    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.publish(DESK, {"rules.md": RULES})

    async def close(self):
        await self.publish(
            DESK.replace("[2026-12-25]", f"[{TODAY}]").replace("00:00-24:00", "10:15-10:16"),
            {"rules.md": RULES},
        )

    async def say(self, text):
        turn_id = await self.arrive(f"m{len(self.sent)}", text)
        await self.driver.work(turn_id)
        return self.sent[-1].text

    async def test_open(self):
        self.assertEqual(await self.say("Book a place."), "Where to?")
        self.assertEqual(await self.say("Pell, please"), "Booked to Pell, please.")
        self.assertEqual(await self.say("How much is a ticket?"), "Four pounds.")

    async def test_closed_and_nothing_stays_open(self):
        await self.close()
        self.assertEqual(await self.say("Book a place."), "The desk is closed.")
        self.assertEqual(await self.say("How much is a ticket?"), "Four pounds, when we are open.")
        self.assertEqual(
            await self.say("I want to speak to a person"), "Nobody is there until 10:15."
        )
        turn = await self.turn(await self.arrive("last", "How much is a ticket?"))
        self.assertEqual(turn.state, "received")

    async def test_a_near_tie_is_shown_as_a_choice_and_a_heading_answers_it(self):
        asked = await self.say("What are the rules on board?")
        self.assertIn("Which do you mean?", asked)
        self.assertIn(". Dogs on board", asked)


del Driving
