"""The four transaction machines (RFC 3261 §17, RFC 6026): what is sent again, and until when.

A machine is a table: what may happen in each state, the state that follows, and what is done. It is
fed messages, its user's responses and the time; it gives back what is to be sent and what its user
must know. It knows when it wants to be woken (`due`). Nothing here sends or waits.

What happens is named so:

    1xx, 2xx, 3xx+      a response, by the hundred of its status; 3xx+ is any final failure
    INVITE, ACK, again  a request that came: an INVITE, its ACK, any other request once more
    A … M               a timer of the standard fires (§17, table 4; L and M of RFC 6026)

What a table does not name in a state does not change anything there (a response that comes too
late, a timer that was stopped).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import ClassVar, Literal

from fond_echo.core.telephony.sip.message import Fields, Message, Request, Response
from fond_echo.core.telephony.sip.values import Via

T1, T2, T4 = 0.5, 4.0, 5.0
"""Seconds: the round trip, the longest pause, a message's life in the network (§17.1.1.1)."""

D = 32.0
"""How long a client takes answers to an INVITE that come again (timer D)."""

TRANSACTION_SECONDS = 64 * T1
"""How long an answer, or an ACK, is waited for (timers B, F, H, L, M; J)."""

Name = Literal["response", "request", "timed-out", "ended"]
State = Literal[
    "calling", "trying", "proceeding", "accepted", "completed", "confirmed", "terminated"
]


@dataclass(frozen=True)
class TransactionEvent:
    """What a transaction reports to its user: a response or request that came, that nothing came,
    or that it is over."""

    name: Name
    message: Message | None = None


@dataclass
class Step:
    """What comes of feeding a machine: messages to send, in order, and what happened."""

    send: list[Message] = field(default_factory=list)
    happened: list[TransactionEvent] = field(default_factory=list)


@dataclass(frozen=True)
class Occasion:
    """What an action acts on: the message that came or is to be sent, the time, and the step that
    it adds to."""

    message: Message | None
    now: float
    step: Step


Action = Callable[["_Machine", Occasion], None]


@dataclass(frozen=True)
class Transition:
    """The state that follows, and what is done, in order."""

    to: State
    actions: tuple[Action, ...] = ()


def to(state: State, *actions: Action) -> Transition:
    """A transition."""
    return Transition(state, actions)


def report(machine: _Machine, at: Occasion) -> None:
    """Hand the message to the user."""
    name: Name = "request" if isinstance(at.message, Request) else "response"
    at.step.happened.append(TransactionEvent(name, at.message))


def report_timeout(machine: _Machine, at: Occasion) -> None:
    """Report that nothing came."""
    at.step.happened.append(TransactionEvent("timed-out"))


def send(machine: _Machine, at: Occasion) -> None:
    """Send the user's response, and keep it to be sent again."""
    if isinstance(at.message, Response):
        machine.last = at.message
        at.step.send.append(at.message)


def send_once(machine: _Machine, at: Occasion) -> None:
    """Send the user's response, which it sends again itself (§13.3.1.4)."""
    if at.message is not None:
        at.step.send.append(at.message)


def send_again(machine: _Machine, at: Occasion) -> None:
    """Send what was sent last once more: the request, the response or the ACK."""
    if machine.last is not None:
        at.step.send.append(machine.last)


def acknowledge(machine: _Machine, at: Occasion) -> None:
    """Send the ACK of a final failure, and keep it to be sent again."""
    if isinstance(at.message, Response):
        machine.last = acknowledged(machine.request, at.message)
        at.step.send.append(machine.last)


def stop_timers(machine: _Machine, at: Occasion) -> None:
    """Nothing is waited for any more."""
    machine.timers.clear()


def start(timer: str, seconds: float, *, unreliable: bool = False) -> Action:
    """Start a timer. `unreliable`: over a reliable transport it takes no time (§17.1.1.2)."""

    def starting(machine: _Machine, at: Occasion) -> None:
        machine.timers[timer] = at.now + (0.0 if unreliable and machine.reliable else seconds)

    return starting


def repeat(timer: str, longest: float | None = None) -> Action:
    """Start a timer that repeats what was sent, each time after twice as long, at most `longest`;
    over a reliable transport nothing is repeated."""

    def repeating(machine: _Machine, at: Occasion) -> None:
        if machine.reliable:
            return
        seconds = T1 if timer not in machine.repeats else 2 * machine.repeats[timer]
        machine.repeats[timer] = min(seconds, longest or seconds)
        machine.timers[timer] = at.now + machine.repeats[timer]

    return repeating


def repeat_slowly(timer: str) -> Action:
    """Start a timer that repeats what was sent every T2 (§17.1.2.2, proceeding)."""

    def repeating(machine: _Machine, at: Occasion) -> None:
        machine.repeats[timer] = T2
        machine.timers[timer] = at.now + T2

    return repeating


Table = Mapping[tuple[State, str], Transition]


class _Machine:
    """What all four have: a state, timers, what was sent last, and whether the transport loses
    messages.

    Attributes:
        begins: the first state, and what is done when it begins.
        table: by state and by what happens.
    """

    begins: ClassVar[Transition]
    table: ClassVar[Table]

    def __init__(self, request: Request, now: float, reliable: bool) -> None:
        self.request = request
        self.reliable = reliable
        self.state: State = self.begins.to
        self.timers: dict[str, float] = {}
        self.repeats: dict[str, float] = {}
        self.last: Message | None = None
        self._do(self.begins, Occasion(None, now, Step()))

    @property
    def due(self) -> float | None:
        """When it wants to be woken; None where it waits for nothing."""
        return min(self.timers.values(), default=None)

    @property
    def over(self) -> bool:
        return self.state == "terminated"

    def wake(self, now: float) -> Step:
        """The time has come, perhaps."""
        step = Step()
        for timer in sorted(self.timers, key=lambda each: self.timers[each]):
            if timer in self.timers and self.timers[timer] <= now:
                del self.timers[timer]
                self._happens(timer, Occasion(None, now, step))
        return step

    def failed(self, now: float) -> Step:
        """The transport could not send: as if nothing had come (§17.1.4)."""
        step = Step()
        self._do(to("terminated", report_timeout), Occasion(None, now, step))
        return step

    def _happens(self, event: str, at: Occasion) -> Step:
        if (transition := self.table.get((self.state, event))) is not None:
            self._do(transition, at)
        return at.step

    def _do(self, transition: Transition, at: Occasion) -> None:
        self.state = transition.to
        for action in transition.actions:
            action(self, at)
        if self.over:
            self.timers.clear()
            at.step.happened.append(TransactionEvent("ended"))


def _hundred(response: Response) -> str:
    return f"{response.status // 100}xx" if response.status < 300 else "3xx+"


class _ClientMachine(_Machine):
    """Of a request that was sent."""

    def __init__(self, request: Request, now: float, reliable: bool) -> None:
        super().__init__(request, now, reliable)
        self.last = request

    def receive(self, response: Response, now: float) -> Step:
        """A response with this transaction's branch."""
        return self._happens(_hundred(response), Occasion(response, now, Step()))


class _ServerMachine(_Machine):
    """Of a request that came."""

    def receive(self, request: Request, now: float) -> Step:
        """The request again, or the ACK of its answer."""
        event = request.method if request.method in ("INVITE", "ACK") else "again"
        return self._happens(event, Occasion(request, now, Step()))

    def respond(self, response: Response, now: float) -> Step:
        """Send a response."""
        return self._happens(_hundred(response), Occasion(response, now, Step()))


class InviteClient(_ClientMachine):
    """An INVITE that was sent (§17.1.1, with the accepted state of RFC 6026). Every 2xx is
    reported: the user acknowledges each of them."""

    begins = to("calling", repeat("A"), start("B", TRANSACTION_SECONDS))
    table: ClassVar[Table] = {
        ("calling", "A"): to("calling", send_again, repeat("A")),
        ("calling", "B"): to("terminated", report_timeout),
        ("calling", "1xx"): to("proceeding", stop_timers, report),
        ("proceeding", "1xx"): to("proceeding", report),
        **{
            (state, event): transition
            for state in ("calling", "proceeding")
            for event, transition in (
                ("2xx", to("accepted", stop_timers, start("M", TRANSACTION_SECONDS), report)),
                ("3xx+", to("completed", stop_timers, acknowledge, report,
                            start("D", D, unreliable=True))),
            )
        },
        ("accepted", "2xx"): to("accepted", report),
        ("accepted", "M"): to("terminated"),
        ("completed", "3xx+"): to("completed", send_again),
        ("completed", "D"): to("terminated"),
    }  # fmt: skip


_COMPLETED = to("completed", stop_timers, report, start("K", T4, unreliable=True))


class Client(_ClientMachine):
    """Any other request that was sent (§17.1.2)."""

    begins = to("trying", repeat("E"), start("F", TRANSACTION_SECONDS))
    table: ClassVar[Table] = {
        ("trying", "E"): to("trying", send_again, repeat("E", T2)),
        ("proceeding", "E"): to("proceeding", send_again, repeat_slowly("E")),
        ("trying", "F"): to("terminated", report_timeout),
        ("proceeding", "F"): to("terminated", report_timeout),
        ("trying", "1xx"): to("proceeding", report),
        ("proceeding", "1xx"): to("proceeding", report),
        ("trying", "2xx"): _COMPLETED,
        ("trying", "3xx+"): _COMPLETED,
        ("proceeding", "2xx"): _COMPLETED,
        ("proceeding", "3xx+"): _COMPLETED,
        ("completed", "K"): to("terminated"),
    }


class InviteServer(_ServerMachine):
    """An INVITE that came (§17.2.1, RFC 6026). A 2xx is sent again by the user until the ACK
    comes (§13.3.1.4)."""

    begins = to("proceeding")
    table: ClassVar[Table] = {
        ("proceeding", "INVITE"): to("proceeding", send_again),
        ("proceeding", "1xx"): to("proceeding", send),
        ("proceeding", "2xx"): to("accepted", send_once, start("L", TRANSACTION_SECONDS)),
        ("proceeding", "3xx+"): to("completed", send, repeat("G"),
                                   start("H", TRANSACTION_SECONDS)),
        ("accepted", "2xx"): to("accepted", send_once),
        ("accepted", "ACK"): to("accepted", report),
        ("accepted", "L"): to("terminated"),
        ("completed", "INVITE"): to("completed", send_again),
        ("completed", "G"): to("completed", send_again, repeat("G", T2)),
        ("completed", "H"): to("terminated", report_timeout),
        ("completed", "ACK"): to("confirmed", stop_timers, start("I", T4, unreliable=True)),
        ("confirmed", "I"): to("terminated"),
    }  # fmt: skip


_ANSWERED = to("completed", send, start("J", TRANSACTION_SECONDS, unreliable=True))


class Server(_ServerMachine):
    """Any other request that came (§17.2.2)."""

    begins = to("trying")
    table: ClassVar[Table] = {
        ("trying", "1xx"): to("proceeding", send),
        ("proceeding", "1xx"): to("proceeding", send),
        ("trying", "2xx"): _ANSWERED,
        ("trying", "3xx+"): _ANSWERED,
        ("proceeding", "2xx"): _ANSWERED,
        ("proceeding", "3xx+"): _ANSWERED,
        ("proceeding", "again"): to("proceeding", send_again),
        ("completed", "again"): to("completed", send_again),
        ("completed", "J"): to("terminated"),
    }


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
