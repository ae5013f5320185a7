"""What a described request costs over the bare HTTP client.

One process of the stand-in network on loopback; the same exchange is made by turns, bare with
httpx, and by a step of a description: templates, a secret, the address guard, the record of the
exchange, what is taken from the answer.

    python -m bench.described
"""

from __future__ import annotations

import asyncio
import os
import subprocess
import sys
import time
from collections.abc import Awaitable, Callable

import httpx

from bench.passengers import voice_notes
from bench.report import options, percentile, show
from fond_echo.connectors.guard import guarded_client
from fond_echo.connectors.machine import RequestMachine
from fond_echo.connectors.secrets import Secret, Vault
from fond_echo.documents.steps import Step
from fond_echo.store.local import free_port

SIGN = Step.model_validate({
    "post": "{{ base }}/rooms/{{ conversation }}/signs",
    "headers": {"Authorization": "Bearer {{ secrets.token }}"},
    "json": {"doing": "{{ kind }}"},
})  # fmt: skip
HANDLE = Step.model_validate({
    "post": "{{ base }}/handles/{{ sound }}",
    "headers": {"Authorization": "Bearer {{ secrets.token }}"},
    "take": {"href": "$.href"},
})  # fmt: skip


async def measure(base: str, host: str, count: int) -> list[tuple[str, float, float, float]]:
    """Milliseconds at p50: bare, described, and what the second costs over the first."""
    vault = Vault({"token": Secret("token", "t", frozenset((host,)))})
    bare = httpx.AsyncClient(trust_env=False)
    guarded = guarded_client([host])
    machine = RequestMachine(guarded, vault, {"base": base})
    headers = {"Authorization": "Bearer t"}
    sound = (await bare.post(f"{base}/people/isla/record", content=voice_notes()[0])).json()[
        "sound"
    ]["handle"]

    async def bare_sign() -> None:
        url = f"{base}/rooms/room-isla/signs"
        (await bare.post(url, json={"doing": "typing"}, headers=headers)).raise_for_status()

    async def described_sign() -> None:
        await machine.run([SIGN], {"conversation": "room-isla", "kind": "typing"})

    async def bare_handle() -> None:
        answer = await bare.post(f"{base}/handles/{sound}", headers=headers)
        assert answer.raise_for_status().json()["href"]

    async def described_handle() -> None:
        outcome = await machine.run([HANDLE], {"sound": sound})
        assert outcome.facts["href"]

    async def timed(call: Callable[[], Awaitable[None]]) -> float:
        begun = time.perf_counter()
        await call()
        return 1000 * (time.perf_counter() - begun)

    rows = []
    for name, plain, described in (
        ("JSON out", bare_sign, described_sign),
        ("a fact taken", bare_handle, described_handle),
    ):
        took: tuple[list[float], list[float]] = ([], [])
        for number in range(count + 20):
            for place, call in enumerate((plain, described)):
                seconds = await timed(call)
                if number >= 20:
                    took[place].append(seconds)
        halves = [percentile(each, 0.5) for each in took]
        rows.append((name, *halves, halves[1] - halves[0]))
    await bare.aclose()
    await guarded.aclose()
    return rows


def main() -> None:
    chosen = options(__doc__, times=500)
    port = free_port()
    host, base = f"127.0.0.1:{port}", f"http://127.0.0.1:{port}"
    command = [sys.executable, "-m", "fond_echo.standins.chat", "serve", "--port", str(port)]
    environment = {**os.environ, "SKERRY_TOKEN": "t", "SKERRY_MARK": "m"}
    network = subprocess.Popen(command, env=environment)
    try:
        for _ in range(200):
            try:
                httpx.get(f"{base}/people", trust_env=False)
                break
            except httpx.HTTPError:
                time.sleep(0.1)
        rows = asyncio.run(measure(base, host, chosen.times))
    finally:
        network.terminate()
        network.wait()
    columns = ("what", "bare p50", "described p50", "over")
    show(f"A request on loopback, {chosen.times} each by turns, ms", columns, rows, chosen.json)


if __name__ == "__main__":
    main()
