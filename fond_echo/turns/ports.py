"""What stages need of the world, as interfaces; who fills them in is decided at start."""

from __future__ import annotations

from collections.abc import AsyncIterator, Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

from fond_echo.contract.clip import ClipRef, NewClip
from fond_echo.contract.engine import EngineAsked, EngineKind
from fond_echo.contract.logic import LogicRequest
from fond_echo.contract.reply import AnswerVerdict, Reply
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import Decoded
from fond_echo.core.dialogue.free import FreeAnswer, FreeQuestion
from fond_echo.core.language.pls import Sounds
from fond_echo.core.language.prosody import PLAIN, Prosody
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.sound import NO_RECORDINGS, SpokenSound
from fond_echo.documents.services import LogicService


@dataclass(frozen=True)
class Fetched:
    """Bytes got from a channel, and what its network says they are."""

    data: bytes = field(repr=False)
    media_type: str
    exchanges: list[Any]


@dataclass(frozen=True)
class Outgoing:
    """One thing to send. `key` is the same at every attempt.

    Attributes:
        kind: text, voice, file, picture, place, choices, edit or delete.
        id: the network's id of what is edited or deleted.
        choices: label and value of each.
        data: the bytes of a voice note, a file or a picture.
        facts: more of what its kind says, such as where a place is.
    """

    kind: str
    conversation: str
    contact: str
    key: str
    text: str = ""
    id: str = ""
    data: bytes = field(default=b"", repr=False)
    media_type: str = ""
    name: str = ""
    url: str = ""
    seconds: float = 0.0
    waveform: tuple[float, ...] = ()
    choices: tuple[tuple[str, str], ...] = ()
    facts: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Sent:
    """What the network said about something sent."""

    external_id: str
    exchanges: list[Any]


@dataclass(frozen=True)
class Abilities:
    """What a channel can send, and how much.

    Attributes:
        kinds: those of Outgoing that its network has; what it has not is sent another way.
        edits_choices: an edit may bring choices along.
        indicator_every: seconds after which an indicator is shown again.
    """

    kinds: frozenset[str]
    text_characters: int = 2_000
    voice_seconds: float = 900.0
    voice_bytes: int = 16_000_000
    file_bytes: int = 16_000_000
    edits_choices: bool = False
    indicator_every: float = 5.0

    def can_edit(self, choices: bool) -> bool:
        """Whether something written can be written anew, with choices or without."""
        return "edit" in self.kinds and (self.edits_choices or not choices)


class AblePort(Protocol):
    """What can send things, as far as it says what it can."""

    @property
    def abilities(self) -> Abilities: ...


class ChannelPort(AblePort, Protocol):
    """A channel, as stages see it."""

    async def fetch(self, handle: str, conversation: str, contact: str) -> Fetched: ...

    async def send(self, outgoing: Outgoing) -> Sent: ...

    async def indicate(self, conversation: str, contact: str, kind: str) -> None: ...

    async def mark_read(self, conversation: str, contact: str, message: str) -> None: ...


class Recognizer(Protocol):
    """Hears."""

    async def transcribe(
        self, clip: Clip, expected: Expected, *, language: str, long: bool
    ) -> Heard: ...


class Hearing(Protocol):
    """One utterance that is heard while it is spoken; `words` are those so far, which may still
    change."""

    words: str

    def feed(self, clip: Clip) -> None:
        """What was said since the last time."""
        ...

    async def finish(self, clip: Clip) -> Heard:
        """What was heard of the whole utterance. Raises FondEchoError."""
        ...

    def asked(self) -> list[EngineAsked]:
        """How a service was asked for it."""
        ...

    def cancel(self) -> None: ...


LiveHearings = Callable[[Expected, str], Hearing | None]
"""Begins to hear an utterance against what is expected, in a language; None where no service
does."""


class Synthesizer(Protocol):
    """Speaks, part by part."""

    def speak(
        self,
        text: str,
        voice: str,
        *,
        seed: int,
        sounds: Sounds = (),
        language: str = "en",
        prosody: Prosody = PLAIN,
        recordings: Mapping[str, Clip] = NO_RECORDINGS,
    ) -> AsyncIterator[SpokenSound]: ...


class Decoder(Protocol):
    """Decodes untrusted sound where it can do no harm."""

    async def decode(self, data: bytes) -> Decoded: ...


class Clips(Protocol):
    """Keeps sound."""

    async def keep(
        self,
        turn_id: str,
        data: bytes,
        media_type: str,
        origin: str,
        *,
        seconds: float | None = None,
        rate: int | None = None,
        waveform: list[float] | None = None,
    ) -> ClipRef: ...

    async def keep_all(self, turn_id: str, sounds: Sequence[NewClip]) -> list[ClipRef]: ...

    async def load(self, clip_id: str) -> bytes: ...


Once = Callable[[str], Awaitable[None]]
"""Puts a question down, by its id, before it is asked; raises where it stands there already."""


class Listener(Protocol):
    """Is handed each piece of text as it comes."""

    async def piece(self, text: str) -> None: ...


class LogicPort(Protocol):
    """Asks business logic; answers may come in parts. `exchanges` are those made so far."""

    exchanges: list[Any]

    def ask(
        self, service: LogicService, request: LogicRequest, *, safe: bool = False,
        listener: Listener | None = None, once: Once | None = None,
    ) -> AsyncIterator[Reply]:  # fmt: skip
        """`listener` hears of the pieces of an answer that is streamed; `once` is handed the id of
        a question before it is asked, where nothing would tell that it is asked again."""
        ...


class AnswererPort(Protocol):
    """Answers a question freely, with the engines that the assistant names."""

    async def answer(
        self, question: FreeQuestion, heard: Callable[[str], Awaitable[None]] | None = None
    ) -> FreeAnswer:
        """`heard` is given each sentence of a streamed answer as soon as it is whole."""
        ...


class HelperPort(Protocol):
    """Summarizes, translates, draws and reviews, with the engines that the assistant names."""

    def can(self, kind: EngineKind) -> bool: ...

    async def summarize(self, text: str, language: str, sentences: int) -> str: ...

    async def translate(self, text: str, language: str, to: str) -> str: ...

    async def draw(self, text: str, language: str) -> tuple[bytes, str]:
        """A picture, and its media type."""
        ...

    async def review(
        self, question: str, answer: str, sources: Sequence[str], first: AnswerVerdict,
        language: str, confidence: float,
    ) -> AnswerVerdict:  # fmt: skip
        """A second opinion on an answer, beside what words alone say."""
        ...


class KeptAnswers(Protocol):
    """What was answered once, and is used again where the same is asked outside a live run."""

    def logic(
        self, name: str, asked: LogicRequest, service: LogicService
    ) -> Sequence[Reply] | None:
        """The answer to what the service would be sent. Raises FondEchoError where today's
        assistant makes nothing of it."""
        ...

    def free(self, turn: Any) -> Sequence[Reply] | None: ...

    def led(self) -> Any:
        """Where an engine led the turn (`Routed`); None where it answered."""
        ...
