"""How soon a webhook is answered, at a steady number of messages a second.

The demo runs with one work process. Signed webhooks with one text each are posted on a fixed
clock, whether the earlier ones were answered or not, first with the worker stopped, so that
only arriving is measured, then with the worker answering on the same machine; then all of it once
more with two web processes that are posted to by turns.

    python -m bench.webhooks
"""

from __future__ import annotations

import asyncio
import hmac
import json
import signal
import time
from hashlib import sha256

import httpx

from bench.passengers import open_accounts, running
from bench.report import options, percentile, show


def signed(mark: str, name: str, person: str) -> tuple[bytes, dict[str, str]]:
    """A webhook with one text, as the network sends it: body and headers."""
    post = {
        "id": name, "kind": "words", "room": f"room-{person}",
        "sender": {"id": person, "name": person, "automated": False},
        "words": "How much is a ticket?",
    }  # fmt: skip
    body = json.dumps({"posts": [post]}).encode()
    at = str(int(time.time()))
    mac = hmac.digest(mark.encode(), at.encode() + b"." + body, sha256).hex()
    return body, {"X-Skerry-Time": at, "X-Skerry-Mark": mac, "Content-Type": "application/json"}


async def post_all(
    addresses: list[str], mark: str, people: list[str], rate: int, seconds: int, first: int
) -> list[float]:
    """Milliseconds until each was answered; addresses are posted to by turns."""
    took: list[float] = []

    async def post(transport: httpx.AsyncHTTPTransport, number: int) -> None:
        body, headers = signed(mark, f"made-{number}", people[number % len(people)])
        address = addresses[number % len(addresses)]
        request = httpx.Request("POST", address, content=body, headers=headers)
        begun = time.perf_counter()
        answer = await transport.handle_async_request(request)
        await answer.aread()
        took.append(1000 * (time.perf_counter() - begun))
        assert answer.status_code == 202, answer.text

    async with (
        # Without what a client does beside: it would be measured, too.
        httpx.AsyncHTTPTransport() as transport,
        asyncio.TaskGroup() as all_,
    ):
        begun = time.perf_counter()
        for number in range(rate * seconds):
            await asyncio.sleep(max(0.0, begun + number / rate - time.perf_counter()))
            all_.create_task(post(transport, first + number))
    return took


def main() -> None:
    chosen = options(__doc__, rate=50, seconds=20)
    rows = []
    with running() as world:
        people = open_accounts(world.network, 40)
        addresses = [f"{world.world.settings.address}/webhooks/skerry"]
        mark = world.world.places.network_mark
        work = world.part("work").process
        assert work is not None
        first = 0
        for webs in ("one web", "two"):
            if webs == "two":
                addresses.append(f"{world.add_web()}/webhooks/skerry")
            for name, stopped in (
                ("warming up", True), ("worker stopped", True), ("worker answering", False)
            ):  # fmt: skip
                work.send_signal(signal.SIGSTOP if stopped else signal.SIGCONT)
                took = asyncio.run(
                    post_all(addresses, mark, people, chosen.rate, chosen.seconds, first)
                )
                first += chosen.rate * chosen.seconds
                if name != "warming up":
                    middle, late = percentile(took, 0.5), percentile(took, 0.95)
                    rows.append((f"{webs}, {name}", len(took), middle, late, max(took)))
            # What was left to do is done, so that both begin with nothing waiting.
            world.wait_until_done()
        work.send_signal(signal.SIGCONT)
    columns = ("what", "webhooks", "p50", "p95", "longest")
    show(f"Webhooks answered, {chosen.rate} a second, ms", columns, rows, chosen.json)


if __name__ == "__main__":
    main()
