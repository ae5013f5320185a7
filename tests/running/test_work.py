"""The worker stops when it is told to, also where the database went away at the same time."""

import asyncio
import unittest

import psycopg

from fond_echo.running.work import _work


class Queue:
    """A queue whose worker ends with the database's error however it is ended."""

    def __init__(self):
        self.begun = 0

    async def run_worker_async(self, **_):
        self.begun += 1
        try:
            await asyncio.Event().wait()
        except asyncio.CancelledError:
            raise psycopg.OperationalError("the connection is lost") from None


class Stopping(unittest.IsolatedAsyncioTestCase):
    async def test_an_error_in_the_place_of_being_cancelled_does_not_begin_it_again(self):
        queue, stopping = Queue(), asyncio.Event()
        worker = asyncio.create_task(_work(queue, 1, stopping))
        await asyncio.sleep(0.05)
        stopping.set()
        worker.cancel()
        await asyncio.wait_for(asyncio.gather(worker, return_exceptions=True), 20)
        self.assertEqual(queue.begun, 1)
