"""The network itself: who and what is there, without any HTTP."""

from __future__ import annotations

import itertools
import re
import secrets
import time
from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from fond_echo.contract.base import JsonObject
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.columns import scaled
from fond_echo.core.audio.containers import decode
from fond_echo.core.audio.errors import SoundError
from fond_echo.core.audio.inspect import findings_of
from fond_echo.core.audio.voicenote import encode_voice_note
from fond_echo.core.audio.waveform import heights
from fond_echo.standins.errors import Refusal

PEAKS = 48
LOUDEST = 100
LENGTH_TOLERANCE = 0.05
PEAKS_TOLERANCE = 0.15
"""How far a bot's peaks may be from the true ones on average, both having a mean of 1: coding
may change the loudest sample, and with it the scale of all others, but not the shape."""


@dataclass(frozen=True)
class Person:
    """Somebody with an account; every person has a room with the bot."""

    id: str
    name: str

    @property
    def room(self) -> str:
        return f"room-{self.id}"


PEOPLE = (
    Person("isla", "Isla Quennell"),
    Person("piet", "Piet Oduya"),
    Person("sunniva", "Sunniva Brandt"),
)
BOT = Person("bot-7", "Harbour desk")
MANY = "pier"
"""The room in which everybody is."""


@dataclass(frozen=True)
class Sound:
    """Sound in a post. `shown` is "note" or "file"; `why` says why it is only a file."""

    id: str
    data: bytes = field(repr=False)
    shown: str
    length: float
    peaks: tuple[int, ...]
    name: str = ""
    why: str = ""


@dataclass(frozen=True)
class Paper:
    """A picture or another file that a person posted, and what they wrote below it."""

    id: str
    data: bytes = field(repr=False)
    name: str
    media_type: str
    below: str = ""


@dataclass(frozen=True)
class Post:
    """Something said in a room."""

    id: str
    number: int
    room: str
    author: Person
    at: float
    words: str = ""
    sound: Sound | None = None
    kind: str = ""
    buttons: tuple[tuple[str, str], ...] = ()
    press: str = ""
    file: tuple[str, int] | None = None
    papers: tuple[Paper, ...] = ()
    conference: str = ""
    spot: tuple[float, float] | None = None
    quotes: tuple[str, str, bool] | None = None
    """The post that it quotes: its id and words, and whether it is the bot's."""

    def reported(self) -> JsonObject:
        """The post as bots and pages receive it."""
        reported: JsonObject = {
            "id": self.id,
            "number": self.number,
            "kind": self.kind or ("sound" if self.sound else "words"),
            "room": self.room,
            "at": self.at,
            "sender": {
                "id": self.author.id,
                "name": self.author.name,
                "automated": self.author == BOT,
            },
        }
        if self.conference:
            reported["sender"]["conference"] = self.conference
        if self.room == MANY:
            reported["many"] = True
        if self.quotes:
            quoted, words, automated = self.quotes
            reported["quotes"] = {"id": quoted, "words": words, "automated": automated}
        if self.words:
            reported["words"] = self.words
        if self.spot:
            reported["spot"] = {"north": self.spot[0], "east": self.spot[1]}
        if self.buttons:
            reported["buttons"] = [
                {"label": label, "value": value} for label, value in self.buttons
            ]
        if self.press:
            reported["press"] = {"value": self.press}
        if self.file:
            reported["file"] = {"name": self.file[0], "bytes": self.file[1]}
        if self.papers:
            reported["papers"] = [
                {"handle": each.id, "name": each.name, "type": each.media_type,
                 "bytes": len(each.data), "below": each.below}
                for each in self.papers
            ]  # fmt: skip
        if self.sound:
            reported["sound"] = {
                "handle": self.sound.id,
                "as": self.sound.shown,
                "length": self.sound.length,
                "peaks": list(self.sound.peaks),
                "name": self.sound.name,
                "why": self.sound.why,
            }
        return reported


class Network:
    """All rooms and posts, in memory.

    Args:
        handle_seconds: how long an address that was given for a sound is good.
        clock: seconds since the epoch.
    """

    def __init__(
        self, *, handle_seconds: float = 30.0, clock: Callable[[], float] = time.time
    ) -> None:
        self._clock = clock
        self._handle_seconds = handle_seconds
        # Posts are in memory only, but no id may come again after a restart.
        self._epoch = secrets.token_hex(3)
        self._numbers = itertools.count(1)
        self.people = {person.id: person for person in PEOPLE}
        self._posts: defaultdict[str, list[Post]] = defaultdict(list)
        self.seen: dict[str, str] = {}
        self.conferences: dict[str, str] = {}
        """By person, the number of the conference they talk in."""
        self.doing: dict[str, tuple[str, float]] = {}
        self.seen_keys: dict[str, str] = {}
        self._sounds: dict[str, Sound | Paper] = {}
        self._addresses: dict[str, tuple[str, float]] = {}

    def person(self, person_id: str) -> Person:
        """Raises Refusal."""
        if person_id not in self.people:
            raise Refusal(404, f"nobody is called {person_id!r}")
        return self.people[person_id]

    def open_account(self, person_id: str, name: str) -> Person:
        """Let somebody else use the network. Raises Refusal where the id is taken or no id."""
        if not re.fullmatch(r"[a-z0-9-]{1,40}", person_id) or not name.strip():
            raise Refusal(400, "an id of lower-case letters, digits and dashes, and a name")
        if person_id in self.people:
            raise Refusal(409, f"{person_id!r} is taken")
        return self.people.setdefault(person_id, Person(person_id, name.strip()))

    def room_of(self, room: str) -> str:
        """Raises Refusal for a room that is not there."""
        if room == MANY:
            return room
        if room.removeprefix("room-") not in self.people or not room.startswith("room-"):
            raise Refusal(404, f"there is no room {room!r}")
        return room

    def say(
        self, author: Person, room: str, words: str, buttons: tuple[tuple[str, str], ...] = (),
        quotes: str = "",
    ) -> Post:  # fmt: skip
        """Post words, perhaps with buttons below them, or quoting another post of the room."""
        if not words.strip():
            raise Refusal(400, "there are no words")
        quoted = None
        if quotes:
            post = next((each for each in self.posts_in(room) if each.id == quotes), None)
            if post is None:
                raise Refusal(404, f"there is no post {quotes!r} in {room}")
            quoted = (post.id, post.words, post.author == BOT)
        return self._post(author, room, words=words, buttons=buttons, quotes=quoted)

    def show_spot(self, author: Person, room: str, label: str, north: float, east: float) -> Post:
        """Post a place on the map, by its name."""
        return self._post(author, room, words=label, kind="spot", spot=(north, east))

    def press(self, author: Person, room: str, value: str) -> Post:
        """Press a button that was posted in the room."""
        offered = {v for post in self.posts_in(room) for _, v in post.buttons}
        if value not in offered:
            raise Refusal(400, f"there is no button {value!r}")
        return self._post(author, room, kind="press", press=value)

    def join(self, author: Person, room: str) -> Post:
        """Come into the room for the first time."""
        return self._post(author, room, kind="joined")

    def show_file(self, author: Person, room: str, name: str, size: int, kind: str) -> Post:
        """Post a file or a picture, which is announced and not stored."""
        return self._post(author, room, kind=kind, file=(name, size))

    def send_paper(
        self, author: Person, room: str, data: bytes, name: str, media_type: str, below: str
    ) -> Post:  # fmt: skip
        """Post a person's picture or file."""
        paper = Paper(f"paper-{secrets.token_hex(4)}", data, name, media_type, below)
        self._sounds[paper.id] = paper
        return self._post(author, room, kind="papers", papers=(paper,))

    def change(
        self, post_id: str, words: str | None, buttons: tuple[tuple[str, str], ...] = ()
    ) -> Post:
        """Change the words and buttons of one of the bot's posts, or take it away with None."""
        for posts in self._posts.values():
            for place, post in enumerate(posts):
                if post.id == post_id and post.author == BOT:
                    if words is None:
                        return posts.pop(place)
                    posts[place] = replace(post, words=words, buttons=buttons)
                    return posts[place]
        raise Refusal(404, f"the bot has no post {post_id!r}")

    def send_file(self, author: Person, room: str, data: bytes, name: str) -> Post:
        """Post a file as it is: a proper voice note shows as one, other sound as a file."""
        return self._post(author, room, sound=_received(data, name))

    def record(self, author: Person, room: str, data: bytes) -> Post:
        """Post a recording, made into a voice note as a telephone's app would."""
        try:
            clip = decode(data).clip
            note = encode_voice_note(clip, secrets.randbits(32))
        except SoundError as error:
            raise Refusal(415, f"the recording cannot be used: {error}") from error
        return self._post(author, room, sound=_sound(note, clip))

    def send_note(
        self, author: Person, room: str, data: bytes, length: float, peaks: list[int]
    ) -> Post:
        """Post what a bot says is a voice note. It is shown as one only where it is mono Ogg
        Opus, and the length and the peaks sent along are true."""
        sound = _received(data)
        problems = [sound.why] if sound.why else []
        if abs(sound.length - length) > LENGTH_TOLERANCE:
            problems.append(f"it lasts {sound.length} s, not {length} s")
        if len(peaks) != PEAKS or not all(0 <= peak <= LOUDEST for peak in peaks):
            problems.append(f"peaks must be {PEAKS} numbers of 0 to {LOUDEST}")
        elif _differ(peaks, sound.peaks):
            problems.append("the peaks are not those of the sound")
        shown = "file" if problems else "note"
        sound = replace(sound, shown=shown, why="; ".join(problems))
        return self._post(author, room, sound=sound)

    def _post(
        self, author: Person, room: str, *, sound: Sound | None = None, **fields: Any
    ) -> Post:
        number = next(self._numbers)
        at = self._clock()
        post_id = f"post-{self._epoch}-{number}"
        post = Post(
            post_id, number, self.room_of(room), author, at, sound=sound,
            conference=self.conferences.get(author.id, ""), **fields,
        )  # fmt: skip
        if sound:
            self._sounds[sound.id] = sound
        self._posts[room].append(post)
        if author == BOT:
            self.doing.pop(room, None)
        return post

    def show(self, room: str, doing: str) -> None:
        """Show for a few seconds what the bot is doing."""
        self.doing[self.room_of(room)] = (doing, self._clock() + 8.0)

    def shown(self, room: str) -> str:
        """What is shown now, or nothing."""
        doing, until = self.doing.get(room, ("", 0.0))
        return doing if self._clock() < until else ""

    def sound(self, sound_id: str) -> Sound | Paper:
        """Raises Refusal."""
        if sound_id not in self._sounds:
            raise Refusal(404, f"there is no sound {sound_id!r}")
        return self._sounds[sound_id]

    def address_for(self, sound_id: str) -> str:
        """A name under which a sound can be fetched for a short time."""
        self.sound(sound_id)
        name = secrets.token_urlsafe(12)
        self._addresses[name] = (sound_id, self._clock() + self._handle_seconds)
        return name

    def fetched(self, name: str) -> Sound | Paper:
        """The sound behind such a name. Raises Refusal once it has expired."""
        sound_id, until = self._addresses.get(name, ("", 0.0))
        if self._clock() >= until:
            raise Refusal(410, "this address has expired")
        return self.sound(sound_id)

    def posts_in(self, room: str, after: int = 0) -> list[Post]:
        """Posts of a room with a number above `after`, in order."""
        return [post for post in self._posts.get(room, ()) if post.number > after]


def _received(data: bytes, name: str = "") -> Sound:
    try:
        decoded = decode(data)
        findings = findings_of(data, decoded)
    except SoundError as error:
        raise Refusal(415, f"the file is not sound: {error}") from error
    return _sound(data, decoded.clip, name, "; ".join(finding.what for finding in findings))


def _sound(data: bytes, clip: Clip, name: str = "", why: str = "") -> Sound:
    """A clip as it is posted: as a note, or for some reason only as a file."""
    peaks = tuple(scaled(heights(clip, PEAKS), 0, LOUDEST))
    shown, length = "file" if why else "note", round(clip.seconds, 3)
    return Sound(f"snd-{secrets.token_hex(6)}", data, shown, length, peaks, name, why)


def _differ(given: Sequence[int], true: Sequence[int]) -> bool:
    scale = sum(true) / max(1, sum(given))
    off = sum(abs(a * scale - b) for a, b in zip(given, true, strict=True))
    return off / max(1, sum(true)) > PEAKS_TOLERANCE
