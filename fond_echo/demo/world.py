"""Filling the demo world: secrets, the harbour desk, and its lines: two stand-in chat networks,
the HTTP line and the public page."""

from __future__ import annotations

import re
from dataclasses import dataclass
from importlib import resources
from importlib.resources.abc import Traversable

from fond_echo.client import FondEcho
from fond_echo.contract.api import LineIn, LineOut
from fond_echo.contract.channel import Access, LineSettings
from fond_echo.core.errors import FondEchoError
from fond_echo.documents.sounds import as_text, is_sound

HERE = resources.files("fond_echo.demo")
ASSISTANT = "harbour-desk"
OUTBOUND = "gale-line"
LOGIC_ADDRESS = "http://127.0.0.1:8090/logic"
PHONE_PORT, GALE_PORT, CARRIER_PORT = 5070, 5072, 5090
NUMBERS = [f"+4416329602{n:02}" for n in range(2)] + [f"+4416329601{n:02}" for n in range(10)]
"""Of the carrier: the desk's, the gale line's, and those of people."""


class WorldIncomplete(FondEchoError):
    """The demo world could not be put together."""

    code = "demo-world"


@dataclass(frozen=True)
class Places:
    """Where the outsiders of the demo are, and what is shared with them."""

    network: str
    second: str
    logic: str
    phone: int
    gale: int
    carrier: int
    carrier_pass: str
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
            elif is_sound(each.name):
                found[before + each.name] = as_text(each.read_bytes())

    collect(HERE / assistant, "")
    return found


def _phone(file: str, places: Places) -> str:
    """The description of a phone line, with the ports that are free here."""
    text = (HERE / file).read_text("utf-8")
    ports = {
        str(PHONE_PORT): places.phone, str(GALE_PORT): places.gale,
        str(CARRIER_PORT): places.carrier,
    }  # fmt: skip
    return re.sub(rf"\b({'|'.join(ports)})\b", lambda found: str(ports[found[0]]), text)


def fill(echo: FondEcho, places: Places) -> dict[str, LineOut]:
    """Put everything in place, and give the lines; doing it again changes nothing.

    Raises:
        WorldIncomplete: a line does not connect.
    """
    echo.put_secret("skerry-token", places.network_token, [host(places.network)])
    echo.put_secret("skerry-mark", places.network_mark, [])
    echo.put_secret("fathom-pass", places.second_pass, [host(places.second)])
    echo.put_secret("carrier-pass", places.carrier_pass, [f"127.0.0.1:{places.carrier}"])
    echo.put_secret("timetable-mark", places.logic_secret, [host(places.logic)])
    for name in (ASSISTANT, OUTBOUND):
        echo.put_assistant(name, files_of(name, places.logic))
        echo.publish_assistant(name)
    skerry = LineIn(
        assistant=ASSISTANT,
        description=(HERE / "skerry.yaml").read_text("utf-8"),
        fixed={"base": places.network},
        settings=LineSettings(when_in_doubt="resend"),
    )
    crew = Access(mode="list", refusal="This is the crew's own line. Maren will let you in.")
    fathom = LineIn(
        assistant=ASSISTANT,
        description=(HERE / "fathom.yaml").read_text("utf-8"),
        fixed={"base": places.second},
        settings=LineSettings(when_in_doubt="resend", access=crew),
    )
    lines = {
        "exchange": LineIn(
            kind="phone", assistant=ASSISTANT, description=_phone("exchange.yaml", places)
        ),
        "gale-phone": LineIn(
            kind="phone", assistant=OUTBOUND, description=_phone("gale.yaml", places)
        ),
        "skerry": skerry,
        "fathom": fathom,
        "desk": LineIn(kind="http", assistant=ASSISTANT),
        "front-door": LineIn(kind="page", assistant=ASSISTANT),
        "gale": LineIn(kind="http", assistant=OUTBOUND),
    }
    put = {name: echo.put_line(name, line) for name, line in lines.items()}
    for name, line in put.items():
        if line.state == "not-connected":
            raise WorldIncomplete(f"the line {name} is not connected: {line.reason}")
    return put
