"""Two endpoints over a network that loses, doubles and delays; no socket, no clock."""

import heapq
import itertools
import random
import unittest

from fond_echo.core.telephony.sip.calls import Offered
from fond_echo.core.telephony.sip.endpoint import Endpoint
from fond_echo.core.telephony.sip.sdp import Terms, answer, offer, read_description
from fond_echo.core.telephony.sip.values import Hop, parse_address, parse_uri


class Media:
    """Describes the same thing every time."""

    def __init__(self, port):
        self.terms = Terms("192.0.2.1", port, port)

    def describe(self, call, offered):
        if not offered:
            return offer(self.terms)
        return answer(read_description(offered), self.terms)[0]


class Network:
    """Carries datagrams between machines with a clock of its own.

    Args:
        lose: the share of datagrams that never come; `double` of those that come twice.
    """

    def __init__(self, lose=0.0, double=0.0):
        self.now = 0.0
        self.sent = []
        self._machines = {}
        self._under_way = []
        self._numbers = itertools.count()
        self._chance = random.Random(4)
        self._lose, self._double = lose, double
        self.events = []

    def add(self, machine, place):
        self._machines[place] = machine

    def out(self, output, place):
        self.events += [(place, event) for event in output.events]
        for data, to in output.send:
            self.sent.append((self.now, place, to, data))
            for _ in range(1 + (self._chance.random() < self._double)):
                if self._chance.random() >= self._lose:
                    at = self.now + self._chance.uniform(0.01, 0.06)
                    heapq.heappush(self._under_way, (at, next(self._numbers), place, to, data))
        return output

    def run(self, until):
        """Let everything happen until a time."""
        while True:
            due = [(m.due, p) for p, m in self._machines.items() if m.due is not None]
            coming = [(self._under_way[0][0], None)] if self._under_way else []
            at, place = min([*due, *coming], key=lambda each: each[0], default=(until + 1, None))
            if at > until:
                self.now = until
                return
            self.now = max(self.now, at)
            if place is not None:
                self.out(self._machines[place].wake(self.now), place)
                continue
            _, _, source, to, data = heapq.heappop(self._under_way)
            if to in self._machines:
                self.out(self._machines[to].receive(data, source, self.now), to)

    def of(self, kind, place=None):
        return [e for p, e in self.events if isinstance(e, kind) and place in (None, p)]


US, THEM = Hop("192.0.2.1", 5060), Hop("192.0.2.2", 5060)


class OverANetwork(unittest.TestCase):
    """Somebody calls us."""

    def setUp(self):
        self.begin()

    def begin(self, **errors):
        self.network = Network(**errors)
        self.ours, self.theirs = (
            Endpoint(*US[:2], Media(20_000), random.Random(1)),
            Endpoint(*THEM[:2], Media(30_000), random.Random(2)),
        )
        self.network.add(self.ours, US)
        self.network.add(self.theirs, THEM)

    def call(self, account=None):
        number = parse_uri("sip:2001@192.0.2.1")
        call, out = self.theirs.place(
            number,
            parse_address("<sip:isla@192.0.2.2>"),
            offer(Media(30_000).terms),
            self.network.now,
            account=account,
        )
        self.network.out(out, THEM)
        return call

    def offered(self, seconds=2.0):
        self.network.run(self.network.now + seconds)
        return self.network.of(Offered, US)[-1].call

    def picked_up(self):
        placed = self.call()
        call = self.offered()
        now = self.network.now
        self.network.out(self.ours.ring(call, now), US)
        self.network.run(now + 1)
        description = self.ours.inside._describer.describe(call, call.remote_sdp)
        self.network.out(self.ours.accept(call, description, self.network.now), US)
        self.network.run(self.network.now + 3)
        return placed, call
