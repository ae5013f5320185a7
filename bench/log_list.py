"""How soon the Log answers with very many turns in the records.

The records are filled by one statement a table: turns in conversations of fifty, each with its
inbound message, its run, nine stages and a delivery. Then the console's own requests are made of
the running service, and one passenger asks something by text.

    python -m bench.log_list --turns 200000
"""

from __future__ import annotations

import time

import psycopg

from bench.passengers import answers, running, tell
from bench.report import options, percentile, show
from fond_echo.client import FondEcho
from fond_echo.store.database import plain_url

A_CONVERSATION = 50
FILL = (
    """INSERT INTO contacts (id, line, outside_id, name, memory, standing)
    SELECT gen_random_uuid(), 'skerry', 'made-' || n, 'Passenger ' || n, '{}', 'new'
    FROM generate_series(1, %(conversations)s) n""",
    """INSERT INTO conversations (id, line, contact_id, outside_id, turns, answered, state,
        answering, changed_at)
    SELECT gen_random_uuid(), 'skerry', id, 'room-' || outside_id, %(each)s, %(each)s, '{}',
        'assistant', now() - random() * interval '300 days' FROM contacts
    WHERE outside_id LIKE 'made-%%'""",
    """INSERT INTO turns (id, conversation_id, number, cause, arrived_as, text, route, state,
        standing, run_id, epoch, received_at, finished_at)
    SELECT gen_random_uuid(), c.id, n, 'inbound', 'text', 'How much is a ticket?', 'fares',
        CASE WHEN random() < 0.01 THEN 'failed' ELSE 'answered' END, '', gen_random_uuid(), 1,
        c.changed_at - n * interval '1 minute', c.changed_at - n * interval '1 minute'
    FROM conversations c, generate_series(1, %(each)s) n WHERE c.outside_id LIKE 'room-made-%%'""",
    """INSERT INTO inbound (id, line, outside_id, payload, message, turn_id, received_at)
    SELECT gen_random_uuid(), 'skerry', t.id, '{"words": "How much is a ticket?"}', '{}', t.id,
        t.received_at FROM turns t WHERE t.run_id IS NOT NULL""",
    """INSERT INTO runs (id, turn_id, kind, revision, clock, seed, state_before, memory_before,
        started_at)
    SELECT t.run_id, t.id, 'live', (SELECT live FROM assistants), t.received_at, 1, '{}', '{}',
        t.received_at FROM turns t WHERE t.run_id IS NOT NULL""",
    """INSERT INTO stages (id, run_id, name, part, attempt, started_at, seconds, outcome, input,
        output)
    SELECT gen_random_uuid(), r.id, s, 0, 1, r.started_at, 0.01, 'done', '{"text": "a"}',
        '{"text": "an output of a usual length, such as a reply or a decision"}'
    FROM runs r, unnest(ARRAY['receive', 'route', 'answer', 'deliver']) s""",
    """INSERT INTO deliveries (id, turn_id, run_id, kind, part, key, state, text, extra, attempts,
        outside_id, exchanges, planned_at, settled_at)
    SELECT gen_random_uuid(), r.turn_id, r.id, 'text', 0, r.id || '-0', 'sent',
        'An adult ticket is four pounds.', '{}', 1, r.id, '[]', r.started_at, r.started_at
    FROM runs r""",
)  # fmt: skip


def fill(url: str, turns: int) -> None:
    with psycopg.connect(plain_url(url), autocommit=True) as connection:
        numbers = {"conversations": turns // A_CONVERSATION, "each": A_CONVERSATION}
        for statement in FILL:
            begun = time.monotonic()
            count = connection.execute(statement, numbers).rowcount
            tell(f"{count} {statement.split()[2]} in {time.monotonic() - begun:.1f} s")
        connection.execute("ANALYZE")


def main() -> None:
    chosen = options(__doc__, turns=200_000, times=40)
    rows = []
    with running() as world:
        fill(world.postgres.url, chosen.turns)
        service = world.world.settings.address
        with FondEcho(service, world.world.key) as echo:
            some = echo.turns(limit=200)
            deep = some.next
            for _ in range(20):
                deep = echo.turns(limit=200, after=deep).next
            turn = some.items[100]
            requests = {
                "turns, the first page": lambda: echo.turns(limit=50),
                "turns, 4,000 further down": lambda: echo.turns(limit=50, after=deep),
                "turns of a line": lambda: echo.turns(line="skerry", limit=50),
                "turns that failed": lambda: echo.turns(state="failed", limit=50),
                "turns of a conversation": lambda: echo.turns(turn.conversation, limit=50),
                "conversations": lambda: echo.conversations(limit=100),
                "one turn whole": lambda: echo.turn(turn.id),
            }
            for name, request in requests.items():
                took = []
                for _ in range(chosen.times + 3):
                    begun = time.perf_counter()
                    request()
                    took.append(1000 * (time.perf_counter() - begun))
                rows.append((name, percentile(took[3:], 0.5), percentile(took[3:], 0.95)))
            took = []
            for _ in range(chosen.times + 3):
                begun = time.perf_counter()
                post = world.network.post(
                    "/people/isla/say", json={"words": "How much is a ticket?"}
                )
                while not answers(world.network, "isla", post.json()["number"]):
                    time.sleep(0.005)
                took.append(1000 * (time.perf_counter() - begun))
            rows.append(
                (
                    "a text, asked and answered",
                    percentile(took[3:], 0.5),
                    percentile(took[3:], 0.95),
                )
            )
    show(f"With {chosen.turns:,} turns, ms", ("what", "p50", "p95"), rows, chosen.json)


if __name__ == "__main__":
    main()
