"""How soon the service answers, and keeps and erases, with very many turns in the records.

The records are filled by one statement a table: turns in conversations of ten, each with its
inbound message, its run, four stages, a delivery and an event, every third with sound: voice notes
of ours, so many bytes of them as are asked for. With a few of those and then with all of them, one
passenger asks something by text and by voice note, and the console's own requests are made of the
running service: its lists are as long in both.
Then contacts are erased, and retention erases what is older than a time: some turns a transaction,
whose lengths are what is shown, for nobody waits longer than for one of them. The passenger goes on
asking meanwhile.

    python -m bench.growth --turns 1000000 --megabytes 5000
"""

from __future__ import annotations

import asyncio
import threading
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from datetime import timedelta

import httpx
import psycopg
from sqlalchemy import select, update
from sqlalchemy.ext.asyncio import AsyncSession

from bench.passengers import answers, running, tell, voice_notes
from bench.report import options, percentile, show
from fond_echo.client import FondEcho
from fond_echo.contract.channel import ChannelSettings, Retention
from fond_echo.store.blobs import PostgresBlobs
from fond_echo.store.database import Database, plain_url
from fond_echo.store.erasing import erase_contact
from fond_echo.store.records import Channel, Contact, Turn
from fond_echo.store.retention import retain

A_CONVERSATION = 10
FEW = 5_000
"""Turns that are there when it is measured first."""
FILL = (
    """INSERT INTO contacts (id, channel, external_id, name, memory, standing)
    SELECT gen_random_uuid(), 'skerry', %(made)s || n, 'Passenger ' || n, '{}', 'new'
    FROM generate_series(1, %(conversations)s) n""",
    """INSERT INTO conversations (id, channel, contact_id, external_id, turns, answered, state,
        answering, changed_at)
    SELECT gen_random_uuid(), 'skerry', id, 'room-' || external_id, %(each)s, %(each)s, '{}',
        'assistant', now() - random() * interval '300 days' FROM contacts
    WHERE external_id LIKE %(made)s || '%%'""",
    """INSERT INTO turns (id, channel, conversation_id, number, cause, arrived_as, text, route,
        state, standing, run_id, epoch, received_at, finished_at)
    SELECT gen_random_uuid(), 'skerry', c.id, n, 'inbound', 'text', 'How much is a ticket?',
        'fares', CASE WHEN random() < 0.01 THEN 'failed' ELSE 'answered' END, '',
        gen_random_uuid(), 1, c.changed_at - n * interval '1 minute',
        c.changed_at - n * interval '1 minute'
    FROM conversations c, generate_series(1, %(each)s) n
    WHERE c.external_id LIKE 'room-' || %(made)s || '%%'""",
    """CREATE TABLE made_turns AS SELECT t.* FROM turns t
    JOIN conversations c ON c.id = t.conversation_id
    WHERE c.external_id LIKE 'room-' || %(made)s || '%%'""",
    """INSERT INTO inbound (id, channel, external_id, payload, message, turn_id, received_at)
    SELECT gen_random_uuid(), 'skerry', t.id, '{"words": "How much is a ticket?"}', '{}', t.id,
        t.received_at FROM made_turns t""",
    """INSERT INTO runs (id, turn_id, kind, revision, clock, seed, state_before, memory_before,
        started_at)
    SELECT t.run_id, t.id, 'live', a.live, t.received_at, 1,
        '{"recent": ["How much?"]}', '{}', t.received_at
    FROM made_turns t, assistants a WHERE a.name = 'harbour-desk'""",
    """INSERT INTO stages (id, run_id, name, part, attempt, started_at, seconds, outcome, input,
        output)
    SELECT gen_random_uuid(), r.id, s, 0, 1, r.started_at, 0.01, 'done', '{"text": "a"}',
        '{"text": "an output of a usual length, such as a reply or a decision"}'
    FROM runs r JOIN made_turns t ON t.run_id = r.id,
        unnest(ARRAY['receive', 'route', 'answer', 'deliver']) s""",
    """INSERT INTO blobs (digest, size, uses)
    SELECT t.id, length(s.data), 1 FROM made_turns t
    JOIN made_sounds s ON s.number = t.number""",
    """INSERT INTO blob_chunks (digest, number, data)
    SELECT t.id, 0, s.data FROM made_turns t
    JOIN made_sounds s ON s.number = t.number""",
    """INSERT INTO clips (id, turn_id, digest, media_type, size, seconds, rate, waveform, origin,
        created_at)
    SELECT t.id, t.id, t.id, 'audio/ogg', length(s.data), 2.0, 16000, '[]', 'spoken', t.received_at
    FROM made_turns t JOIN made_sounds s ON s.number = t.number""",
    """INSERT INTO deliveries (id, turn_id, run_id, kind, part, key, state, text, extra, attempts,
        external_id, exchanges, planned_at, settled_at, clip_id)
    SELECT gen_random_uuid(), r.turn_id, r.id, 'text', 0, r.id || '-0', 'sent',
        'An adult ticket is four pounds.', '{}', 1, r.id, '[]', r.started_at, r.started_at, c.id
    FROM runs r JOIN made_turns t ON t.run_id = r.id LEFT JOIN clips c ON c.turn_id = r.turn_id""",
    """INSERT INTO events (type, subject, at, data)
    SELECT 'turn.answered', t.id, t.received_at, '{"channel": "skerry"}' FROM made_turns t""",
)  # fmt: skip


WITH_SOUND = (3, 6, 9)
"""The turns of a conversation that have sound."""


def _sounds(size: int) -> list[bytes]:
    """Files of about such a size, of voice notes of ours."""
    notes = voice_notes()
    repeated = [b"".join(notes[k:] + notes[:k]) * (1 + size // 50_000) for k in range(3)]
    return [each[:size] for each in repeated]


def fill(url: str, made: str, turns: int, megabytes: float) -> None:
    """So many turns more, of people whose names begin so, as autovacuum would leave them."""
    with psycopg.connect(plain_url(url), autocommit=True) as connection:
        connection.execute("CREATE TABLE made_sounds (number int, data bytea)")
        clips = turns * len(WITH_SOUND) // A_CONVERSATION
        sounds = _sounds(max(400, int(megabytes * 1_000_000 / clips)))
        for number, data in zip(WITH_SOUND, sounds, strict=True):
            connection.execute("INSERT INTO made_sounds VALUES (%s, %s)", (number, data))
        given = {"made": made, "conversations": turns // A_CONVERSATION, "each": A_CONVERSATION}
        for statement in FILL:
            begun = time.monotonic()
            count = connection.execute(statement, given).rowcount
            tell(f"{count} {statement.split()[2]} in {time.monotonic() - begun:.1f} s")
        connection.execute("DROP TABLE made_turns, made_sounds")
        connection.execute("VACUUM (ANALYZE)")
        connection.execute("CHECKPOINT")


class Timed(Database):
    """A database that notes how long each transaction is open, in milliseconds."""

    def __init__(self, url: str) -> None:
        super().__init__(url)
        self.took: list[float] = []

    @asynccontextmanager
    async def writing(self) -> AsyncIterator[AsyncSession]:
        begun = time.perf_counter()
        async with super().writing() as session:
            yield session
        self.took.append(1000 * (time.perf_counter() - begun))


async def erased(url: str, turns: int) -> list[tuple[str, float, float]]:
    """What erasing one contact, and retention of a hundredth of all turns, cost."""
    database, blobs, rows = Timed(url), PostgresBlobs(), []
    async with database.reading() as session:
        ids = (await session.execute(select(Contact.id).limit(20))).scalars().all()
    for contact in ids:
        await erase_contact(database, blobs, contact)
    rows.append(("a contact erased, each transaction", *_middle(database.took)))
    database.took.clear()
    async with database.reading() as session:
        oldest = select(Turn.received_at).order_by(Turn.received_at).offset(turns // 100).limit(1)
        before = (await session.execute(oldest)).scalar_one()
    kept = ChannelSettings(retention=Retention(sound_days=1, text_days=1)).model_dump(mode="json")
    async with database.writing() as session:
        await session.execute(update(Channel).where(Channel.name == "skerry").values(settings=kept))
    begun = time.perf_counter()
    count = await retain(database, blobs, before + timedelta(days=1), event_days=299)
    tell(f"retention of {count:,} in {time.perf_counter() - begun:.1f} s")
    rows.append(("retention, each transaction", *_middle(database.took)))
    await database.close()
    return rows


def _middle(took: list[float]) -> tuple[float, float]:
    return percentile(took, 0.5), percentile(took, 0.95)


class Passenger:
    """Asks, and waits for the answer."""

    def __init__(self, network: httpx.Client) -> None:
        self._network = network
        self._note = voice_notes()[2]

    def ask(self, *, aloud: bool = False) -> float:
        """Milliseconds until the answer was there."""
        begun = time.perf_counter()
        if aloud:
            post = self._network.post("/people/isla/record", content=self._note)
        else:
            post = self._network.post("/people/isla/say", json={"words": "How much is a ticket?"})
        while not answers(self._network, "isla", post.json()["number"]):
            time.sleep(0.005)
        return 1000 * (time.perf_counter() - begun)

    def ask_on(self, ended: threading.Event, took: list[float]) -> None:
        """Ask four times a second, until it has ended."""
        while not ended.wait(0.25):
            took.append(self.ask())


def reads(echo: FondEcho, times: int) -> dict[str, tuple[float, float]]:
    """What the console's own requests take."""
    some = echo.turns(limit=200)
    deep = some.next
    for _ in range(20):
        deep = deep and echo.turns(limit=200, cursor=deep).next
    # As many turns in its conversation with many as with few.
    turn = next(each for each in some.items if each.contact_name.startswith("Passenger"))
    requests = {
        "turns, the first page": lambda: echo.turns(limit=50),
        "turns, 4,000 further down": lambda: echo.turns(limit=50, cursor=deep),
        "turns of a channel": lambda: echo.turns(channel="skerry", limit=50),
        "turns that failed": lambda: echo.turns(state="failed", limit=50),
        "turns by words that are rare": lambda: echo.turns(text="umbrella", limit=50),
        "turns by words": lambda: echo.turns(text="ticket", limit=50),
        "turns of a conversation": lambda: echo.turns(turn.conversation, limit=50),
        "conversations": lambda: echo.conversations(limit=100),
        "one turn whole": lambda: echo.turn(turn.id),
    }
    if not deep:
        # There are not so many.
        del requests["turns, 4,000 further down"]
    found = {}
    for name, request in requests.items():
        took = []
        for _ in range(times + 3):
            begun = time.perf_counter()
            request()
            took.append(1000 * (time.perf_counter() - begun))
        found[name] = _middle(took[3:])
    return found


def asked(passenger: Passenger, times: int) -> dict[str, tuple[float, float]]:
    """What a passenger waits for."""
    found = {}
    for name, aloud in (("a text", False), ("a voice note", True)):
        took = [passenger.ask(aloud=aloud) for _ in range(times + 3)]
        found[f"{name}, asked and answered"] = _middle(took[3:])
    return found


def main() -> None:
    chosen = options(__doc__, turns=200_000, megabytes=0, times=40)
    with running() as world:
        service, passenger = world.world.settings.address, Passenger(world.network)
        with FondEcho(service, world.world.key) as echo:
            fill(world.postgres.url, "few-", FEW, chosen.megabytes * FEW / chosen.turns)
            few = asked(passenger, chosen.times) | reads(echo, chosen.times)
            fill(world.postgres.url, "many-", chosen.turns, chosen.megabytes)
            many = asked(passenger, chosen.times) | reads(echo, chosen.times)
        rows = [
            (name, *few[name], *took, f"{took[0] / few[name][0]:.2f}")
            if name in few
            else (name, "", "", *took, "")
            for name, took in many.items()
        ]
        ended, took = threading.Event(), []
        asking = threading.Thread(target=passenger.ask_on, args=(ended, took))
        asking.start()
        try:
            beside = asyncio.run(erased(world.postgres.url, chosen.turns))
        finally:
            ended.set()
            asking.join()
        beside.append(("a text meanwhile", *_middle(took)))
        rows += [(name, "", "", *both, "") for name, *both in beside]
    title = f"With {chosen.turns:,} turns and {chosen.megabytes:,} MB of sound, ms"
    columns = ("what", "few, p50", "few, p95", "many, p50", "many, p95", "ratio of p50")
    show(title, columns, rows, chosen.json)


if __name__ == "__main__":
    main()
