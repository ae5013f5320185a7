"""Turns driven by a worker in this process, and what came of them."""

from sqlalchemy import select

from fond_echo.core.audio.containers import encode
from fond_echo.store.records import Delivery, Run, Stage, Turn
from tests.sounds import speech
from tests.support.world import TurnsTest

QUESTION = "When is the next boat to Pell?"


def note(text=QUESTION, voice="curlew"):
    return encode(speech(text, voice), "ogg")


class Killed(BaseException):
    """What a worker dies of in these tests."""


class Driving(TurnsTest):
    async def turn(self, turn_id):
        async with self.database.reading() as session:
            return await session.get_one(Turn, turn_id)

    async def stages(self, turn_id):
        async with self.database.reading() as session:
            wanted = (
                select(Stage).join(Run).where(Run.turn_id == turn_id).order_by(Stage.started_at)
            )
            return (await session.execute(wanted)).scalars().all()

    async def deliveries(self, turn_id):
        async with self.database.reading() as session:
            wanted = select(Delivery).where(Delivery.turn_id == turn_id).order_by(Delivery.part)
            return (await session.execute(wanted)).scalars().all()

    @property
    def sent(self):
        return self.world.channel.sent
