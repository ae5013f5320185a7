"""A chat channel, driven by a description alone."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlsplit

import httpx
from pydantic import ValidationError

from fond_echo.channels.errors import UnreadableMessage
from fond_echo.connectors.answers import found_at, taken
from fond_echo.connectors.errors import ConnectorError, Unreachable, WrongAnswer
from fond_echo.connectors.machine import Outcome, RequestMachine
from fond_echo.connectors.oauth import TokenSource
from fond_echo.connectors.secrets import Secrets
from fond_echo.connectors.throttle import Throttle
from fond_echo.connectors.wire import Payload, declared_host
from fond_echo.contract.base import JsonObject
from fond_echo.contract.channel import (
    MAX_FILES,
    Arrived,
    FileHandle,
    Inbound,
    Quoted,
    SoundHandle,
    Unreadable,
)
from fond_echo.core.dialogue.markup import written_in
from fond_echo.core.errors import FondEchoError
from fond_echo.documents.connector import SENDING, ChatConnector
from fond_echo.documents.steps import filter_path
from fond_echo.turns.ports import Abilities, Fetched, Outgoing, Sent

MAX_BACKLOG = 200
MAX_SHOWN = 10_000
"""Characters that are kept of what cannot be taken apart into messages."""

"""So many pages of what a polled network has already are passed over."""


def storable(value: Any) -> Any:
    """A JSON value with U+FFFD in place of what PostgreSQL cannot hold: NUL, half surrogates."""
    match value:
        case str():
            return value.replace("\0", "\ufffd").encode("utf-8", "replace").decode()
        case list():
            return [storable(each) for each in value]
        case dict():
            return {storable(name): storable(each) for name, each in value.items()}
    return value


class ChatChannel:
    """A channel on a chat network.

    Args:
        description: how its network is talked to.
        values: the channel's own values, such as `base`.
        facts: what `connect` took from the network.
        client: an HTTP client behind the address guard.
        vault: the secrets it may use.
        throttle: keeps to the network's limits, shared by all that talk to it in this process.
    """

    def __init__(
        self,
        connector: ChatConnector,
        values: JsonObject,
        facts: JsonObject,
        client: httpx.AsyncClient,
        vault: Secrets,
        throttle: Throttle | None = None,
    ) -> None:
        self.connector = connector
        self._client = client
        self._facts = facts
        self._vault = vault
        declared = [declared_host(each, values) for each in connector.hosts]
        oauth = connector.oauth
        tokens = TokenSource(client, oauth, values) if oauth else None
        self._throttle = throttle
        self._machine = RequestMachine(client, vault, values, declared, throttle, tokens)

    @property
    def abilities(self) -> Abilities:
        requests, limits = self.connector.requests, self.connector.limits
        return Abilities(
            frozenset(kind for kind in SENDING if requests[kind]),
            limits.text.characters,
            limits.voice.seconds,
            limits.voice.bytes,
            limits.file.bytes,
            edits_choices=any("choices" in step.asks_for() for step in requests["edit"]),
            indicator_every=limits.indicator_every,
        )

    async def connect(self, our_address: str) -> JsonObject:
        """Tell the network where we are; gives what it said about us."""
        return (await self.run("connect", {"our_address": our_address})).facts

    async def poll(self, cursor: str) -> tuple[list[Arrived], str]:
        """Ask for what came after a place; gives messages and the new place."""
        document, following = await self.ask_after(cursor)
        return self.messages(document), following

    async def ask_after(self, cursor: str) -> tuple[Any, str]:
        """Ask for what came after a place; gives what the network answers, and the new place.
        Raises ConnectorError."""
        step = self.connector.receive.poll
        assert step is not None
        taking = step.model_copy(update={"take": {**step.take, "next_cursor": step.cursor}})
        outcome = await self._machine.run([taking], {**self._facts, "cursor": cursor})
        return outcome.document, str(outcome.facts["next_cursor"])

    async def caught_up(self) -> str:
        """The place behind all that is there already, where the connector file does not say that
        the backlog is answered; "" where it does. Raises ConnectorError."""
        poll = self.connector.receive.poll
        if poll is None or poll.begin == "backlog":
            return ""
        cursor = ""
        for _ in range(MAX_BACKLOG):
            document, following = await self.ask_after(cursor)
            there = found_at(storable(document), self.connector.receive.each)
            if following == cursor or not there:
                return following
            cursor = following
        raise WrongAnswer(
            f"after {MAX_BACKLOG:,} pages there is still more of the backlog",
            remedy="begin: backlog under poll answers all of it",
        )

    def messages(self, payload: Any) -> list[Arrived]:
        """The messages in what the network sent, with those that cannot be read. Our own posts that
        come back are left out."""
        found: list[Arrived] = []
        try:
            posts = found_at(storable(payload), self.connector.receive.each)
        except (WrongAnswer, RecursionError) as error:
            return [Unreadable({"begins": repr(payload)[:MAX_SHOWN]}, _why(error))]
        for post in posts:
            try:
                if (message := self._read(post)) is not None:
                    found.append((message, post))
            except FondEchoError as error:
                found.append(Unreadable(post, str(error)))
            except (ValueError, TypeError, KeyError, RecursionError) as error:
                found.append(Unreadable(post, _why(error)))
        return found

    def _read(self, post: Any) -> Inbound | None:
        """A message in our shape; None for one of our own."""
        ours = self.connector.receive.ours
        return None if ours and taken(post, ours) else self._message(post)

    def _message(self, post: Any) -> Inbound:
        receive = self.connector.receive
        paths = receive.message
        values = {
            name: taken(post, path)
            for name, path in paths.model_dump(exclude_none=True, exclude={"files"}).items()
        }
        for name in ("id", "conversation", "contact"):
            if values.get(name) in (None, ""):
                raise UnreadableMessage(f"nothing at {getattr(paths, name)} in a message")
        joined = _holds(receive.joined, post)
        text, command = self._command(str(values.get("text") or ""))
        choice, files = values.get("choice"), self._files(post)
        if not text:
            text = "\n".join(each.caption for each in files if each.caption)
        sound = self._sound(values)
        if files and sound is not None and sound.kind == "document":
            # It is one of the files, and no recording: those have their own place, or type.
            sound = None
        return Inbound(
            id=str(values["id"]),
            conversation=str(values["conversation"]),
            contact=str(values["contact"]),
            name=str(values.get("name") or "")[:200],
            text="" if joined else text,
            choice=None if choice is None or joined else str(choice),
            sound=None if joined else sound,
            files=[] if joined else files,
            command=command,
            joined=joined,
            conference=str(values.get("conference") or "")[:60],
            quoted=self._quoted(values, post),
            group=_holds(receive.group, post),
        )

    def _files(self, post: Any) -> list[FileHandle]:
        """The pictures and files of a message; what is sound is a recording, and none of them."""
        paths = self.connector.receive.message.files
        if paths is None:
            return []
        found = []
        for each in found_at(post, paths.each)[:MAX_FILES]:
            told = {
                name: str(taken(each, path) or "")
                for name, path in paths.model_dump(exclude_none=True, exclude={"each"}).items()
            }
            if told["handle"] and not told.get("media_type", "").startswith("audio/"):
                found.append(FileHandle(**shortened_to_fit(told)))
        return found

    def _quoted(self, values: JsonObject, post: Any) -> Quoted | None:
        words, ours = values.get("quoted"), _holds(self.connector.receive.quotes_us, post)
        if not words and not ours:
            return None
        return Quoted(text=str(words or "")[:4_000], ours=ours)

    def _command(self, text: str) -> tuple[str, bool]:
        out = self.connector.send
        mark = out.command_mark
        if mark and text.startswith(mark) and len(text) > len(mark):
            return text[len(mark) :].strip(), True
        return text, False

    def _sound(self, values: JsonObject) -> SoundHandle | None:
        seconds = values.get("seconds")
        length = float(seconds) if isinstance(seconds, (int, float)) else None
        if values.get("sound") is not None:
            kind = values.get("sound_kind")
            is_note = kind is None or kind == self.connector.receive.note_when
            return SoundHandle(
                handle=str(values["sound"]), kind="note" if is_note else "file", seconds=length
            )
        if values.get("document") is not None:
            return SoundHandle(handle=str(values["document"]), kind="document", seconds=length)
        return None

    async def fetch(self, handle: str, conversation: str, contact: str) -> Fetched:
        """Get the sound behind a handle. Raises ConnectorError."""
        facts = {"sound": handle, "conversation": conversation, "contact": contact}
        outcome = await self.run("fetch", facts)
        payload = outcome.payload or Payload(b"")
        return Fetched(payload.data, payload.media_type, [vars(e) for e in outcome.exchanges])

    async def send(self, outgoing: Outgoing) -> Sent:
        """Send one thing of a kind that the network has. Raises ConnectorError."""
        facts: JsonObject = {
            **outgoing.facts,
            "conversation": outgoing.conversation,
            "contact": outgoing.contact,
            "key": outgoing.key,
            "text": written_in(outgoing.text, self.connector.limits.text.markup),
            "id": outgoing.id,
            "name": outgoing.name,
            "url": outgoing.url,
            "seconds": round(outgoing.seconds, 3),
            "waveform": list(outgoing.waveform),
            "choices": [{"label": label, "value": value} for label, value in outgoing.choices],
        }
        payload = Payload(outgoing.data, outgoing.media_type, outgoing.name or "answer.ogg")
        if not outgoing.data and outgoing.url and self._wants_bytes(outgoing.kind):
            payload = await self._download(outgoing)
        if payload.data:
            facts["sound" if outgoing.kind == "voice" else "file"] = payload
        outcome = await self.run(outgoing.kind, facts)
        exchanges = [vars(each) for each in outcome.exchanges]
        return Sent(str(outcome.facts.get("id", "")), exchanges)

    def _wants_bytes(self, kind: str) -> bool:
        return any("file" in step.asks_for() for step in self.connector.requests[kind])

    async def _download(self, outgoing: Outgoing) -> Payload:
        """An attachment that the network wants as bytes, from its address. Raises
        ConnectorError."""
        try:
            answer = await self._client.get(outgoing.url)
        except httpx.HTTPError as error:
            raise Unreachable(
                f"the attachment is not there: {error}", where=outgoing.url
            ) from error
        if answer.status_code != 200 or len(answer.content) > self.abilities.file_bytes:
            what = (
                f"the attachment cannot be used: {answer.status_code}, {len(answer.content)} bytes"
            )
            raise WrongAnswer(what, where=outgoing.url)
        kind = answer.headers.get("content-type", "application/octet-stream").partition(";")[0]
        name = outgoing.name or urlsplit(outgoing.url).path.rpartition("/")[2] or "file"
        return Payload(answer.content, kind, name)

    async def indicate(self, conversation: str, contact: str, kind: str) -> None:
        """Show that an answer is on its way, where the network can."""
        await self._lightly("indicator", {"kind": kind}, conversation, contact)

    async def mark_read(self, conversation: str, contact: str, message: str) -> None:
        """Mark a message as read, where the network can."""
        await self._lightly("read", {"id": message}, conversation, contact)

    async def _lightly(self, kind: str, facts: JsonObject, conversation: str, contact: str) -> None:
        """Run a request that nobody misses: in a burst the answers go first, and it is left out."""
        roomy = self._throttle is None or self._throttle.roomy
        if roomy and self.connector.requests[kind]:
            await self.run(kind, {**facts, "conversation": conversation, "contact": contact})

    async def run(self, kind: str, facts: JsonObject) -> Outcome:
        """Run one of the description's requests over facts. Raises ConnectorError."""
        steps = self.connector.requests[kind]
        if not steps and kind not in ("connect", "fetch"):
            raise ConnectorError(f"the network {self.connector.network} cannot send {kind}")
        return await self._machine.run(steps, {**self._facts, **facts})


def shortened_to_fit(told: dict[str, str]) -> dict[str, str]:
    """What a network says of a file, in the lengths that are kept. A handle is kept whole."""
    most = {"media_type": 200, "name": 200, "caption": 4_000}
    return {name: text[: most.get(name, len(text))] for name, text in told.items()}


def _why(error: Exception) -> str:
    """Why a message that is no message of ours could not be made one."""
    if isinstance(error, ValidationError):
        first = error.errors()[0]
        return f"{'.'.join(map(str, first['loc']))}: {first['msg']}"
    return f"{type(error).__name__}: {error}"


def _holds(condition: str | None, post: Any) -> bool:
    """Whether a condition is true of a message; one that is not given never is."""
    return bool(condition and found_at([post], filter_path(condition)))
