"""The four transaction machines (RFC 3261 §17, RFC 6026): what is sent again, and until when.

A machine is fed messages and the time; it gives back what is to be sent and what happened. It
knows when it wants to be woken (`due`). Nothing here sends or waits.

    INVITE client      calling → proceeding → (accepted | completed) → terminated
    other client       trying → proceeding → completed → terminated
    INVITE server      proceeding → (accepted | completed → confirmed) → terminated
    other server       trying → proceeding → completed → terminated
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from fond_echo.core.telephony.sip.message import Fields, Message, Request, Response
from fond_echo.core.telephony.sip.values import Via

T1, T2, T4 = 0.5, 4.0, 5.0
"""Seconds: the round trip, the longest pause, a message's life in the network (§17.1.1.1)."""

D = 32.0
"""How long a client takes answers to an INVITE that come again (timer D)."""

Name = Literal["response", "request", "timed-out", "ended"]


@dataclass(frozen=True)
class TransactionEvent:
    """What a transaction tells its user: a response or request that came, that nothing came, or
    that it is over."""

    name: Name
    message: Message | None = None


@dataclass
class Step:
    """What comes of feeding a machine: messages to send, in order, and what happened."""

    send: list[Message] = field(default_factory=list)
    happened: list[TransactionEvent] = field(default_factory=list)


class _Machine:
    """What all four have: a state, timers, whether the transport loses messages."""

    def __init__(self, request: Request, now: float, reliable: bool) -> None:
        self.request = request
        self.reliable = reliable
        self.state = ""
        self._timers: dict[str, float] = {}
        self._begin(now)

    def _begin(self, now: float) -> None:
        raise NotImplementedError

    def _fire(self, timer: str, now: float, step: Step) -> None:
        raise NotImplementedError

    @property
    def due(self) -> float | None:
        """When it wants to be woken; None where it waits for nothing."""
        return min(self._timers.values(), default=None)

    @property
    def over(self) -> bool:
        return self.state == "terminated"

    def wake(self, now: float) -> Step:
        """The time has come, perhaps."""
        step = Step()
        for timer in sorted(self._timers, key=lambda each: self._timers[each]):
            if timer in self._timers and self._timers[timer] <= now:
                del self._timers[timer]
                self._fire(timer, now, step)
        return step

    def failed(self, now: float) -> Step:
        """The transport could not send: as if nothing had come (§17.1.4)."""
        step = Step()
        self._end(step, "timed-out")
        return step

    def _end(self, step: Step, *reported: Name) -> None:
        self.state = "terminated"
        self._timers.clear()
        step.happened += [TransactionEvent(name) for name in (*reported, "ended")]


class InviteClient(_Machine):
    """An INVITE that was sent (§17.1.1, with the accepted state of RFC 6026)."""

    _interval = T1

    def _begin(self, now: float) -> None:
        self.state = "calling"
        if not self.reliable:
            self._timers["A"] = now + T1
        self._timers["B"] = now + 64 * T1

    def receive(self, response: Response, now: float) -> Step:
        """A response with this transaction's branch."""
        step = Step()
        reported = TransactionEvent("response", response)
        if response.status < 200:
            if self.state in ("calling", "proceeding"):
                self.state = "proceeding"
                self._timers.clear()
                step.happened.append(reported)
        elif response.status < 300:
            # Every 2xx is told of: the user acknowledges each of them.
            if self.state in ("calling", "proceeding", "accepted"):
                if self.state != "accepted":
                    self.state = "accepted"
                    self._timers = {"M": now + 64 * T1}
                step.happened.append(reported)
        elif self.state in ("calling", "proceeding"):
            self.state = "completed"
            self._ack = acknowledged(self.request, response)
            step.send.append(self._ack)
            step.happened.append(reported)
            self._timers = {"D": now + (0.0 if self.reliable else D)}
        elif self.state == "completed":
            step.send.append(self._ack)
        return step

    def _fire(self, timer: str, now: float, step: Step) -> None:
        if timer == "A" and self.state == "calling":
            step.send.append(self.request)
            self._interval *= 2
            self._timers["A"] = now + self._interval
        elif timer == "B" and self.state == "calling":
            self._end(step, "timed-out")
        elif timer in ("D", "M"):
            self._end(step)


class Client(_Machine):
    """Any other request that was sent (§17.1.2)."""

    _interval = T1

    def _begin(self, now: float) -> None:
        self.state = "trying"
        if not self.reliable:
            self._timers["E"] = now + T1
        self._timers["F"] = now + 64 * T1

    def receive(self, response: Response, now: float) -> Step:
        step = Step()
        if self.state not in ("trying", "proceeding"):
            return step
        step.happened.append(TransactionEvent("response", response))
        if response.status < 200:
            self.state = "proceeding"
        else:
            self.state = "completed"
            self._timers = {"K": now + (0.0 if self.reliable else T4)}
        return step

    def _fire(self, timer: str, now: float, step: Step) -> None:
        if timer == "E" and self.state in ("trying", "proceeding"):
            step.send.append(self.request)
            self._interval = T2 if self.state == "proceeding" else min(2 * self._interval, T2)
            self._timers["E"] = now + self._interval
        elif timer == "F" and self.state in ("trying", "proceeding"):
            self._end(step, "timed-out")
        elif timer == "K":
            self._end(step)


class InviteServer(_Machine):
    """An INVITE that came (§17.2.1, RFC 6026)."""

    _interval = T1
    _last: Response | None = None

    def _begin(self, now: float) -> None:
        self.state = "proceeding"

    def receive(self, request: Request, now: float) -> Step:
        """The INVITE again, or the ACK of an answer that was not 2xx."""
        step = Step()
        if request.method == "INVITE":
            if self.state in ("proceeding", "completed") and self._last is not None:
                step.send.append(self._last)
        elif request.method == "ACK":
            if self.state == "completed":
                self.state = "confirmed"
                self._timers = {"I": now + (0.0 if self.reliable else T4)}
            elif self.state == "accepted":
                step.happened.append(TransactionEvent("request", request))
        return step

    def respond(self, response: Response, now: float) -> Step:
        """Send a response. After a 2xx the user sends it again until the ACK comes (§13.3.1.4)."""
        step = Step()
        if self.state == "accepted" and 200 <= response.status < 300:
            step.send.append(response)
        if self.state != "proceeding":
            return step
        self._last = response
        step.send.append(response)
        if response.status >= 300:
            self.state = "completed"
            if not self.reliable:
                self._timers["G"] = now + T1
            self._timers["H"] = now + 64 * T1
        elif response.status >= 200:
            self.state = "accepted"
            self._timers = {"L": now + 64 * T1}
        return step

    def _fire(self, timer: str, now: float, step: Step) -> None:
        if timer == "G" and self.state == "completed" and self._last is not None:
            step.send.append(self._last)
            self._interval = min(2 * self._interval, T2)
            self._timers["G"] = now + self._interval
        elif timer == "H" and self.state == "completed":
            self._end(step, "timed-out")
        elif timer in ("I", "L"):
            self._end(step)


class Server(_Machine):
    """Any other request that came (§17.2.2)."""

    _last: Response | None = None

    def _begin(self, now: float) -> None:
        self.state = "trying"

    def receive(self, request: Request, now: float) -> Step:
        """The request again."""
        step = Step()
        if self.state in ("proceeding", "completed") and self._last is not None:
            step.send.append(self._last)
        return step

    def respond(self, response: Response, now: float) -> Step:
        step = Step()
        if self.state not in ("trying", "proceeding"):
            return step
        self._last = response
        step.send.append(response)
        if response.status < 200:
            self.state = "proceeding"
        else:
            self.state = "completed"
            self._timers = {"J": now + (0.0 if self.reliable else 64 * T1)}
        return step

    def _fire(self, timer: str, now: float, step: Step) -> None:
        if timer == "J":
            self._end(step)


Transaction = InviteClient | Client | InviteServer | Server


def acknowledged(invite: Request, response: Response) -> Request:
    """The ACK of a final answer that is not 2xx: hop by hop, with the INVITE's own branch
    (§17.1.1.3)."""
    sequence, _ = invite.sequence
    pairs = [("via", str(invite.vias[0])), ("max-forwards", "70")]
    pairs += [("from", invite.fields.get("from") or ""), ("to", response.fields.get("to") or "")]
    pairs += [("call-id", invite.call_id), ("cseq", f"{sequence} ACK")]
    pairs += [("route", each) for each in invite.fields.all("route")]
    return Request(Fields(tuple(pairs)), b"", "ACK", invite.uri)


def cancelled(invite: Request) -> Request:
    """The CANCEL of an INVITE that was answered provisionally (§9.1)."""
    sequence, _ = invite.sequence
    pairs = [("via", str(invite.vias[0])), ("max-forwards", "70")]
    pairs += [(name, invite.fields.get(name) or "") for name in ("from", "to", "call-id")]
    pairs += [("cseq", f"{sequence} CANCEL")]
    pairs += [("route", each) for each in invite.fields.all("route")]
    return Request(Fields(tuple(pairs)), b"", "CANCEL", invite.uri)


COOKIE = "z9hG4bK"


def key_of(message: Message, via: Via | None = None) -> tuple[str, ...]:
    """What tells a server's transactions apart (§17.2.3): branch, sent-by and method; an ACK
    belongs to its INVITE. Without the branch of this standard, what RFC 2543 had."""
    top = via or message.vias[0]
    number, method = message.sequence
    method = "INVITE" if method == "ACK" else method
    where = f"{top.host.lower()}:{top.port or 5060}"
    if top.branch.startswith(COOKIE):
        return top.branch, where, method
    return message.call_id, message.origin.tag, str(number), method, where


def client_key(message: Message) -> tuple[str, str]:
    """What tells a client's transactions apart (§17.1.3): branch and the method of CSeq."""
    return message.vias[0].branch, message.sequence[1]
