"""Decoding what strangers send, in a child process with bounded memory, time and samples.

Each file gets a child of its own, forked from a small server that has only the codecs loaded;
whatever happens in it ends with it.
"""

from __future__ import annotations

import asyncio
import multiprocessing
import resource
from multiprocessing import forkserver
from multiprocessing.connection import Connection
from typing import Any

from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import Decoded, Limits, decode
from fond_echo.core.audio.errors import BrokenSound, SoundError, SoundTooLong
from fond_echo.core.audio.resample import at_rate

MEMORY = 3 * 2**30
CPU_SECONDS = 60
RATE = 16_000

LIMITS = Limits(size=60 * 2**20, seconds=3_600.0)


class GuardedDecoder:
    """Decodes files to clips at 16 kHz.

    Args:
        limits: of size, length and channels.
        memory: bytes of address space for the child.
        cpu_seconds: of processor time; twice that of waiting.
    """

    def __init__(
        self, limits: Limits = LIMITS, *, memory: int = MEMORY, cpu_seconds: int = CPU_SECONDS
    ) -> None:
        self._limits = limits
        self._memory = memory
        self._cpu_seconds = cpu_seconds
        self._context = multiprocessing.get_context("forkserver")
        self._context.set_forkserver_preload(["__main__", __name__])

    def warm(self) -> None:
        """Start the server that children are forked from, so that the first file need not wait
        for the codecs to load."""
        forkserver.ensure_running()

    async def decode(self, data: bytes) -> Decoded:
        """Raises a SoundError for anything that is not sound within the limits."""
        if len(data) > self._limits.size:
            what = f"the file has {len(data):,} bytes"
            raise SoundTooLong(what, remedy=f"at most {self._limits.size:,} are read")
        return await asyncio.to_thread(self._in_child, data)

    def _in_child(self, data: bytes) -> Decoded:
        ours, theirs = self._context.Pipe()
        child = self._context.Process(
            target=_child,
            args=(theirs, self._limits, self._memory, self._cpu_seconds),
            daemon=True,
        )
        child.start()
        theirs.close()
        try:
            ours.send_bytes(data)
            if not ours.poll(2.0 * self._cpu_seconds):
                raise BrokenSound("decoding took too long", remedy="send it in shorter parts")
            answer = ours.recv()
        except (EOFError, OSError) as error:
            raise BrokenSound("decoding used up its memory or time") from error
        finally:
            ours.close()
            # Its answer is here, or will never be: nothing is gained by letting it end in order.
            child.kill()
            child.join()
            child.close()
        if isinstance(answer, SoundError):
            raise answer
        assert isinstance(answer, Decoded)
        return answer


def _child(pipe: Connection, limits: Limits, memory: int, cpu_seconds: int) -> None:
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CPU, (cpu_seconds, cpu_seconds + 1))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    data = pipe.recv_bytes()
    answer: Any
    try:
        decoded = decode(data, limits)
        clip: Clip = at_rate(decoded.clip, RATE)
        answer = Decoded(clip, decoded.container, decoded.codec, decoded.channels)
    except SoundError as error:
        answer = error
    except MemoryError:
        answer = BrokenSound("decoding used up its memory")
    pipe.send(answer)
