"""A whole assistant in one file: what another service needs to run it, without any secret's
value."""

from __future__ import annotations

from pydantic import Field

from fond_echo.contract.api import ChannelIn
from fond_echo.contract.assistants import FileErrorOut, Files
from fond_echo.contract.base import Instant, Name, Schema
from fond_echo.contract.engine import EngineIn

VERSION = 1


class SecretNeeded(Schema):
    """A secret by its name, and the hosts that it is sent to; its value is nowhere."""

    name: Name
    hosts: list[str] = Field(default_factory=list, max_length=50)


class Package(Schema):
    """An assistant's live files, or its draft's where nothing is live, the engines that it names,
    its channels with their settings, and the secrets that all of these need. `hosts_reached` are
    those to which it sends what people say; `functions` what an engine may have called."""

    package: int = VERSION
    assistant: Name
    packed_at: Instant
    files: Files
    engines: dict[Name, EngineIn] = Field(default_factory=dict, max_length=100)
    channels: dict[Name, ChannelIn] = Field(default_factory=dict, max_length=100)
    secrets: list[SecretNeeded] = Field(default_factory=list, max_length=200)
    hosts_reached: list[str] = Field(default_factory=list, max_length=200)
    functions: list[str] = Field(default_factory=list, max_length=200)


class PackageCheck(Schema):
    """What unpacking would meet: secrets that are not here yet, names that stand for something else
    here, and what is wrong with it."""

    missing: list[SecretNeeded]
    conflicts: list[str]
    errors: list[FileErrorOut]
