"""Filling the demo world: secrets, the harbour desk, and its channels: two stand-in chat networks,
the HTTP channel and the public page."""

from __future__ import annotations

import re
from dataclasses import dataclass
from importlib import resources
from importlib.resources.abc import Traversable

from fond_echo.client import FondEcho
from fond_echo.contract.api import ChannelIn, ChannelOut
from fond_echo.contract.channel import Access, ChannelSettings, Groups
from fond_echo.contract.engine import EngineIn
from fond_echo.demo.errors import WorldIncomplete
from fond_echo.documents.media import as_text, is_media

HERE = resources.files("fond_echo.demo")
ASSISTANT = "harbour-desk"
LOUDSPEAKER = "+441632960160"
"""On the quay: a telephone number that picks up by itself."""
OUTBOUND = "gale-line"
OUTSIDE = "harbour-talk"
DECK = "deck-log"
ENGINES = (
    "far-ear", "slow-ear", "far-voice", "packed-voice", "harbour-mind", "spare-mind",
    "quay-tongues", "short-hand", "quick-pencil", "quick-ear", "harbour-wire",
    "cheap-ear", "second-look",
)  # fmt: skip
LOGIC_ADDRESS = "http://127.0.0.1:8090/logic"
PHONE_PORT, GALE_PORT, CARRIER_PORT = 5070, 5072, 5090
NUMBERS = [f"+4416329602{n:02}" for n in range(3)] + [f"+4416329601{n:02}" for n in range(10)]
"""Of the carrier: the desk's, the gale channel's, the talk's, and those of people."""


@dataclass(frozen=True)
class Places:
    """Where the stand-ins of the demo are, and what is shared with them."""

    network: str
    second: str
    logic: str
    phone: int
    gale: int
    carrier: int
    carrier_pass: str
    engines: str
    engines_pass: str
    network_token: str
    network_mark: str
    second_pass: str
    logic_secret: str


def host(address: str) -> str:
    """The host:port of an address."""
    return address.partition("://")[2].partition("/")[0]


def files_of(assistant: str, logic: str = LOGIC_ADDRESS) -> dict[str, str]:
    """The files of one of the demo's assistants, its logic at an address."""
    found: dict[str, str] = {}

    def collect(folder: Traversable, before: str) -> None:
        for each in folder.iterdir():
            if each.is_dir():
                collect(each, f"{before}{each.name}/")
            elif each.name.endswith((".yaml", ".abnf", ".md")):
                found[before + each.name] = each.read_text("utf-8").replace(LOGIC_ADDRESS, logic)
            elif is_media(each.name):
                found[before + each.name] = as_text(each.read_bytes())

    collect(HERE / assistant, "")
    return found


def _phone(file: str, places: Places) -> str:
    """The description of a phone channel, with the ports that are free here."""
    text = (HERE / file).read_text("utf-8")
    ports = {
        str(PHONE_PORT): places.phone, str(GALE_PORT): places.gale,
        str(CARRIER_PORT): places.carrier,
    }  # fmt: skip
    return re.sub(rf"\b({'|'.join(ports)})\b", lambda found: str(ports[found[0]]), text)


def fill(echo: FondEcho, places: Places) -> dict[str, ChannelOut]:
    """Put everything in place, and give the channels; doing it again changes nothing.

    Raises:
        WorldIncomplete: a channel does not connect.
    """
    echo.put_secret("skerry-token", places.network_token, [host(places.network)])
    echo.put_secret("skerry-mark", places.network_mark, [])
    echo.put_secret("spindrift-pass", places.second_pass, [host(places.second)])
    echo.put_secret("carrier-pass", places.carrier_pass, [f"127.0.0.1:{places.carrier}"])
    echo.put_secret("timetable-mark", places.logic_secret, [host(places.logic)])
    echo.put_secret("gannet-pass", places.engines_pass, [host(places.engines)])
    connected = {each.name: (each.connector, each.values) for each in echo.engines()}
    for name in ENGINES:
        text = (HERE / "engines" / f"{name}.yaml").read_text("utf-8")
        values = {"base": places.engines}
        if connected.get(name) != (text, values):
            echo.put_engine(name, EngineIn(connector=text, values=values))
    handbook = {
        name: text for name, text in files_of(ASSISTANT).items() if name.startswith("handbook/")
    }
    there = {each.name: each for each in echo.assistants()}
    for name in (ASSISTANT, OUTBOUND, OUTSIDE, DECK):
        files = {**files_of(name, places.logic), **(handbook if name == OUTSIDE else {})}
        known = there.get(name)
        # To check them again takes a second.
        if known is None or known.live != known.draft or echo.draft(name).files != files:
            echo.put_assistant(name, files)
            echo.publish_assistant(name)
    skerry = ChannelIn(
        assistant=ASSISTANT,
        connector=(HERE / "skerry.yaml").read_text("utf-8"),
        values={"base": places.network},
        settings=ChannelSettings(
            when_in_doubt="retry", groups=Groups(names=["harbour desk", "desk"])
        ),
    )
    crew = Access(mode="list", refusal="This is the crew's own channel. Maren will let you in.")
    spindrift = ChannelIn(
        assistant=ASSISTANT,
        connector=(HERE / "spindrift.yaml").read_text("utf-8"),
        values={"base": places.second},
        settings=ChannelSettings(when_in_doubt="retry", access=crew),
    )
    channels = {
        "exchange": ChannelIn(
            kind="phone", assistant=ASSISTANT, connector=_phone("exchange.yaml", places)
        ),
        "gale-phone": ChannelIn(
            kind="phone", assistant=OUTBOUND, connector=_phone("gale.yaml", places)
        ),
        "skerry": skerry,
        "spindrift": spindrift,
        "desk": ChannelIn(kind="http", assistant=ASSISTANT),
        "front-door": ChannelIn(kind="page", assistant=ASSISTANT),
        "gale": ChannelIn(kind="http", assistant=OUTBOUND),
        "talk": ChannelIn(kind="http", assistant=OUTSIDE),
        "deck": ChannelIn(
            kind="http",
            assistant=DECK,
            settings=ChannelSettings(access=Access(mode="list"), max_audio_minutes=180),
        ),
    }
    put = {name: echo.put_channel(name, channel) for name, channel in channels.items()}
    for name, channel in put.items():
        if channel.state == "not-connected":
            raise WorldIncomplete(f"the channel {name} is not connected: {channel.reason}")
    return put
