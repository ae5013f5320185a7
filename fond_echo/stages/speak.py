"""speak: the reply's words as sound, part by part."""

from __future__ import annotations

import asyncio
import hashlib
from collections.abc import AsyncIterator, Awaitable, Callable
from typing import Protocol
from xml.sax.saxutils import escape

import structlog

from fond_echo.contract.clip import NewClip
from fond_echo.contract.reply import Reply
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import encode as encode_clip
from fond_echo.core.audio.errors import SoundError
from fond_echo.core.audio.level import normalized
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.audio.waveform import heights
from fond_echo.core.caching import Recent
from fond_echo.core.dialogue.shaping import speakable
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.errors import SsmlError
from fond_echo.core.language.prosody import Prosody
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.language.sentences import Sentences
from fond_echo.core.language.silent import silent_letters
from fond_echo.core.language.ssml import is_ssml, plain_of, read_ssml, recordings_in
from fond_echo.core.recognition.symbols import RATE
from fond_echo.core.synthesis.sound import SpokenSound
from fond_echo.documents.media import bytes_of
from fond_echo.turns.needs import SpeakingNeeds
from fond_echo.turns.ready import AnsweredTurn
from fond_echo.turns.turn import Spoken, SpokenPart, TurnSoFar

log = structlog.get_logger()

PACKED_BYTES = 8 * 2**20
_lately: Recent[tuple[bytes, int], NewClip] = Recent(PACKED_BYTES, lambda made: len(made.data))
"""What was packed lately, by the sound: what is said often is packed once."""

MAX_KEYS = 9
"""So many choices have a key each."""


def spoken_text(reply: Reply, says: Sentences | None = None, *, in_call: bool = False) -> str:
    """What is said for a reply: its own spoken words, or its written ones made speakable, and
    then what can be chosen; markup stays markup. Markup that cannot be spoken gives way to the
    written words.

    Raises:
        SsmlError: where there are none.
    """
    text = reply.spoken
    if is_ssml(text):
        try:
            read_ssml(text)
        except SsmlError:
            if not reply.text:
                raise
            text = ""
    says = says or Sentences(language_of())
    choices = spoken_choices(reply, says, in_call=in_call)
    words = text or speakable(reply.text, says.text("a-link"))
    names = [each.name for each in reply.places if each.name.casefold() not in words.casefold()]
    more = " ".join([*(f"{name}." for name in names), choices]).strip()
    if is_ssml(text):
        before, _, after = text.rpartition("</")
        return f"{before} {escape(more)}</{after}" if more else text
    return f"{words} {more}".strip()


def spoken_words(reply: Reply) -> str:
    """What is said for a reply, without markup."""
    text = spoken_text(reply)
    return plain_of(text) if is_ssml(text) else text


def spoken_choices(reply: Reply, says: Sentences, *, in_call: bool = False) -> str:
    """What can be chosen, said: in a call with the key for each."""
    if not reply.choices:
        return ""
    if in_call and len(reply.choices) <= MAX_KEYS:
        named = enumerate((choice.label for choice in reply.choices), 1)
        return " ".join(
            says.text("press-or-say", choice=label.rstrip(".?!"), key=str(key))
            for key, label in named
        )
    *others, last = [choice.label for choice in reply.choices]
    listed = f"{', '.join(others)}, {says.text('choice-or')} {last}" if others else last
    return says.text("say-one-of", choices=listed)


async def speak(
    turn: AnsweredTurn, needs: SpeakingNeeds, left_of: Callable[[str], str] = str
) -> AsyncIterator[SpokenSound]:
    """The parts of the spoken reply as they are made, or as they lie in the assistant's folder.

    Args:
        left_of: what is left to say of a text of which sentences were said before.
    """
    for whole in turn.answered.final:
        reply = whole if left_of is str else _less(whole, left_of)
        played = await _played(reply, turn, needs)
        if played is not None:
            yield played
        call = turn.in_call
        say = spoken_choices if played else spoken_text
        text = say(reply, turn.assistant.says, in_call=call)
        if text:
            assistant = turn.assistant
            wanted = reply.prosody or assistant.prosody
            async for part in needs.synthesizer.speak(
                text,
                reply.voice or assistant.voice,
                seed=turn.seed,
                sounds=assistant.pronounced,
                language=assistant.language,
                prosody=Prosody(rate=wanted.rate, pitch=wanted.pitch, volume=wanted.volume),
                recordings=await _recordings(text, turn, needs),
            ):
                yield part


def _less(reply: Reply, left_of: Callable[[str], str]) -> Reply:
    """A reply without the sentences that were said before."""
    if reply.spoken:
        return reply.model_copy(update={"text": "", "spoken": left_of(reply.spoken)})
    return reply.model_copy(update={"text": left_of(reply.text)})


def unspoken(turn: AnsweredTurn) -> str:
    """The letters of a reply that nothing can be said for."""
    said = " ".join(spoken_text(reply, turn.assistant.says) for reply in turn.answered.final)
    return silent_letters(said, turn.assistant.its_language)


def _sayable(turn: AnsweredTurn) -> bool:
    """Whether anything of a reply has sounds."""
    said = " ".join(spoken_text(reply, turn.assistant.says) for reply in turn.answered.final)
    knows = turn.assistant.its_language.letters.knows
    words = plain_of(said) if is_ssml(said) else said
    return any(each.isdecimal() or (each.isalpha() and knows(each)) for each in words)


async def _recordings(text: str, turn: TurnSoFar, needs: SpeakingNeeds) -> dict[str, Clip]:
    """The sounds of the assistant's folder that markup plays."""
    if not is_ssml(text):
        return {}
    found: dict[str, Clip] = {}
    for name in recordings_in(read_ssml(text)):
        clip = await _sound(name, turn, needs)
        if clip is not None:
            found[name] = clip
    return found


async def _played(reply: Reply, turn: TurnSoFar, needs: SpeakingNeeds) -> SpokenSound | None:
    """The reply's sound from the assistant's folder, as loud as speech; None where it has none,
    or none that can be used: then its words are spoken."""
    if not reply.sound:
        return None
    clip = await _sound(reply.sound, turn, needs)
    return SpokenSound(clip, reply.text) if clip is not None else None


async def _sound(name: str, turn: TurnSoFar, needs: SpeakingNeeds) -> Clip | None:
    """A sound of the assistant's folder at 16 kHz; None where there is none, or none that is
    sound."""
    kept = turn.assistant.media(name)
    if kept is None:
        log.warning("the assistant's folder has no such sound", turn=turn.id, sound=name)
        return None
    try:
        decoded = await needs.decoder.decode(bytes_of(kept))
    except SoundError as error:
        log.warning("a sound is not played", turn=turn.id, sound=name, reason=str(error))
        return None
    return await asyncio.to_thread(lambda: normalized(at_rate(decoded.clip, RATE)))


class SpokenAhead(Protocol):
    """Sentences of a reply that were spoken before it was whole.

    Attributes:
        parts: what was spoken of them.
    """

    parts: list[SpokenSound]

    def left_of(self, text: str) -> str:
        """What of a text follows them."""
        ...


async def spoken_whole(
    turn: AnsweredTurn, needs: SpeakingNeeds, use: Callable[[SpokenSound], Awaitable[None]],
    ahead: SpokenAhead | None,
) -> Spoken:  # fmt: skip
    """The reply spoken and kept, part by part.

    Args:
        use: is given each part as soon as it is there.
        ahead: spoke sentences before the reply was whole.

    Raises what the synthesizer raises; letters without sounds are a warning.
    """
    said = ahead is not None and bool(ahead.parts)
    spoken: list[SpokenSound] = list(ahead.parts) if ahead is not None else []
    packing = [_pack_soon(part.clip) for part in spoken]
    silent = unspoken(turn)
    warnings = [f"nothing can be said for the letters {silent}"] if silent else []
    try:
        async for part in speak(turn, needs, ahead.left_of if ahead is not None and said else str):
            await use(part)
            packing.append(_pack_soon(part.clip))
            spoken.append(part)
    except FondEchoError:
        if spoken or not silent or _sayable(turn):
            raise
        # Not one word has sounds: the reply goes out in writing.
        return Spoken(parts=[], warnings=[f"{warnings[0]}: it was answered in writing"])
    kept = await needs.clips.keep_all(turn.id, await asyncio.gather(*packing))
    parts = [SpokenPart(text=part.text, clip=clip) for part, clip in zip(spoken, kept, strict=True)]
    return Spoken(parts=parts, warnings=warnings)


def _pack_soon(clip: Clip) -> asyncio.Task[NewClip]:
    """A part as it is kept, packed beside what goes on."""
    return asyncio.create_task(_packed(clip))


async def _packed(clip: Clip) -> NewClip:
    key = hashlib.sha256(clip.samples.tobytes()).digest(), clip.rate
    known = _lately.get(key)
    if known is None:
        known = await asyncio.to_thread(_pack, clip)
        _lately.keep(key, known)
    return known


def _pack(clip: Clip) -> NewClip:
    data = encode_clip(clip, "flac")
    return NewClip(data, "audio/flac", "spoken", clip.seconds, clip.rate, tuple(heights(clip)))
