"""The description of a phone channel: where it listens, who may call, how it behaves in calls."""

from __future__ import annotations

from functools import lru_cache
from ipaddress import ip_address, ip_network
from typing import Annotated, Literal

from pydantic import Field, field_validator, model_validator

from fond_echo.contract.base import Name, Pattern, Schema
from fond_echo.core.telephony.sip.numbers import MIN_DIGITS, is_allowed, normalized
from fond_echo.documents.errors import NotAllowed
from fond_echo.documents.source import read_yaml
from fond_echo.documents.steps import SecretRef
from fond_echo.documents.validate import validated

Port = Annotated[int, Field(ge=1, le=65_535)]
Number = Annotated[
    str,
    Field(min_length=1, max_length=60),
    Pattern(r"[^\s<>\"]+", "a number or an address has no spaces, quotes or brackets"),
]
SipAddress = Pattern(
    r"sip:(?!.*transport=tls)[^\s<>]+",
    "write sip:HOST or sip:HOST:PORT; sips: and transport=tls are not spoken here",
)
OurAddress = Pattern(
    r"sip:(?!.*transport=tls)[^\s<>]+@[^\s<>]+", "write sip:USER@HOST; sips: is not spoken here"
)
Way = Pattern(
    r"|[^\s;:]+(:\d{1,5})?(;transport=(tcp|udp))?", "write HOST:PORT, with ;transport=tcp for TCP"
)
CountryCode = Pattern(r"\d{0,3}", "a country's code has up to three digits, without +")
Terminator = Pattern(r"[0-9*#A-D]?", "one key, 0 to 9, * or #, or nothing")


class Listening(Schema):
    """Where the channel listens. `public` is the address that others reach it by, where that is
    another; `media` the ports for sound, two for each call. `sound_from` says from where a call's
    sound is taken: the address that was agreed on or that its signalling comes from, or anywhere,
    for peers whose sound comes from a third place."""

    host: str = "127.0.0.1"
    port: Port = 5060
    public: str = ""
    media: tuple[Port, Port] = (20_000, 20_398)
    sound_from: Literal["negotiated", "anywhere"] = "negotiated"

    @field_validator("host", "public")
    @classmethod
    def _is_address(cls, value: str) -> str:
        if value:
            ip_address(value)
        return value

    @model_validator(mode="after")
    def _in_order(self) -> Listening:
        if self.media[1] - self.media[0] < 1:
            raise ValueError("media is the first and the last port, at least two of them")
        return self


class RegistrarSpec(Schema):
    """A registrar or trunk with which the channel registers: its `uri` (sip:…), our address of
    record there (`aor`), `user` and `password`, and for how many seconds (`expires`)."""

    registrar: Name
    uri: Annotated[str, SipAddress]
    aor: Annotated[str, OurAddress]
    user: str
    password: SecretRef
    expires: int = Field(default=600, ge=60, le=86_400)
    proxy: Annotated[str, Way] = ""


class CallerSpec(Schema):
    """Somebody who may call after proving who they are: a user and a password."""

    user: str = Field(min_length=1, max_length=100)
    password: SecretRef


class Outbound(Schema):
    """Calls that are placed, and transfers.

    They go to a registrar's trunk (`by` its name) or to an address (`via` HOST:PORT, with
    ;transport=tcp behind it for TCP). Only numbers that are `allowed` are called: as they are, or
    by their beginning, with a * at the end; numbers of a country are completed with its `country`
    code. `max_concurrent`, `per_minute` and `minutes_per_day` are limits.
    """

    by: str = ""
    via: Annotated[str, Way] = ""
    country: Annotated[str, CountryCode] = ""
    allowed: list[Number] = Field(min_length=1, max_length=1_000)
    max_concurrent: int = Field(default=5, ge=1, le=500)
    per_minute: int = Field(default=30, ge=1, le=6_000)
    minutes_per_day: int = Field(default=600, ge=1, le=1_000_000)
    ring_seconds: float = Field(default=30.0, ge=1.0, le=180.0)

    @model_validator(mode="after")
    def _one_way(self) -> Outbound:
        if bool(self.by) == bool(self.via):
            raise ValueError("calls go out by a registrar or via an address: say one of them")
        return self


class CallHandling(Schema):
    """How the assistant behaves in calls.

    `greetings` is how often the greeting is said before reminders are, `wait_seconds` how long the
    caller may be silent, `reminders` what is said then, one after the other, before the call ends
    with `no_input_goodbye`. `barge_in` lets the caller speak while the assistant does. Of keys, as
    many as `max_digits` are taken together, or those that are there after `interdigit_seconds`, or
    at the `terminator`. A call from which no packet comes for `silence_seconds` is over. `record`
    records every call, after `record_words`; `not_connected` is said where a transfer did not come
    about. Words that are left out are the service's own, in the assistant's language.
    """

    greetings: int = Field(default=2, ge=1, le=20)
    wait_seconds: float = Field(default=6.0, ge=1.0, le=60.0)
    reminders: list[str] | None = Field(default=None, max_length=10)
    no_input_goodbye: str = ""
    barge_in: bool = True
    end_seconds: float = Field(default=0.6, ge=0.3, le=3.0)
    max_utterance_seconds: float = Field(default=20.0, ge=2.0, le=60.0)
    max_digits: int = Field(default=1, ge=1, le=40)
    interdigit_seconds: float = Field(default=2.5, ge=0.5, le=20.0)
    terminator: Annotated[str, Terminator] = "#"
    max_seconds: float = Field(default=3_600.0, ge=10.0, le=86_400.0)
    silence_seconds: float = Field(default=30.0, ge=2.0, le=3_600.0)
    record: bool = False
    record_words: str = ""
    not_connected: str = ""


class PhoneConnector(Schema):
    """A phone channel. `numbers` lead here (all, where there are none); `peers` may call without
    being asked who they are: addresses or networks; `callers` after proving it; `max_calls` is how
    many there may be at once; without `outbound` no calls are placed. `assistants` has numbers that
    lead to another assistant than the channel's: one line, several numbers, an assistant each."""

    phone: Name
    listen: Listening = Field(default_factory=Listening)
    numbers: list[Number] = Field(default_factory=list, max_length=1_000)
    assistants: dict[Number, Name] = Field(default_factory=dict, max_length=1_000)
    peers: list[str] = Field(default_factory=list, max_length=100)
    registrars: list[RegistrarSpec] = Field(default_factory=list, max_length=20)
    callers: list[CallerSpec] = Field(default_factory=list, max_length=1_000)
    outbound: Outbound | None = None
    max_calls: int = Field(default=20, ge=1, le=500)
    call_handling: CallHandling = Field(default_factory=CallHandling)

    @field_validator("peers")
    @classmethod
    def _are_networks(cls, value: list[str]) -> list[str]:
        for each in value:
            ip_network(each, strict=False)
        return value

    @model_validator(mode="after")
    def _somebody_can_call(self) -> PhoneConnector:
        if not (self.peers or self.registrars or self.callers):
            raise ValueError("nobody can call: say peers (addresses), callers or registrars")
        for number in self.assistants:
            if not self.leads_here(number):
                raise ValueError(f"assistants: {number} is not one of numbers")
        by = self.outbound.by if self.outbound else ""
        if by and by not in [each.registrar for each in self.registrars]:
            raise ValueError(f"outbound goes by {by!r}, and there is no registrar of that name")
        return self

    @property
    def address(self) -> str:
        """Where it is called."""
        number = self.numbers[0] if self.numbers else "anything"
        return f"sip:{number}@{self.listen.public or self.listen.host}:{self.listen.port}"

    def may_call(self, host: str) -> bool:
        """Whether calls are taken from an address: from peers, and from where registrars are."""
        ways = [each.uri for each in self.registrars] + [each.proxy for each in self.registrars]
        if any(host == way.removeprefix("sip:").partition(":")[0] for way in ways if way):
            return True
        return any(ip_address(host) in ip_network(each, strict=False) for each in self.peers)

    def may_be_called(self, text: str) -> str:
        """The number that a text means, in its one form.

        Raises:
            MalformedValue: it is no number.
            NotAllowed: the channel may not call this number.
        """
        outbound = self.outbound
        if outbound is None:
            raise NotAllowed("this channel places no calls", remedy="describe them: outbound: …")
        number = normalized(text, outbound.country)
        if not is_allowed(number, outbound.allowed, outbound.country):
            reported = ", ".join(outbound.allowed[:5])
            raise NotAllowed(f"{number} may not be called", remedy=f"allowed are: {reported}")
        return number

    def warnings(self) -> list[str]:
        """Warnings: what is valid and probably not meant."""
        outbound = self.outbound
        found = []
        for pattern in outbound.allowed if outbound else ():
            begin = pattern.removesuffix("*").replace(" ", "")
            if (
                pattern.endswith("*")
                and (begin.startswith("0") or len(begin) >= MIN_DIGITS)
                and (not begin.startswith("+"))
            ):
                code = outbound.country if outbound and outbound.country else "COUNTRY"
                found.append(
                    f"outbound.allowed: {pattern!r} never matches: numbers are compared as + and "
                    f"digits; write '+{code}{begin.lstrip('0')}*'"
                )
        return found

    def leads_here(self, number: str) -> bool:
        return not self.numbers or number in self.numbers


@lru_cache(maxsize=100)
def read_phone(text: str, file: str) -> PhoneConnector:
    """Read and check the description of a phone channel.

    Raises:
        InvalidFile: with every fault that was found.
    """
    return validated(read_yaml(text, file), PhoneConnector)
