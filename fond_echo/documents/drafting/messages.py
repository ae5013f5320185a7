"""Where in the messages of a network each fact stands: guesses from up to three that came."""

from __future__ import annotations

import base64
import hmac
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from fond_echo.documents.drafting.example import Place, json_path, leaves_of
from fond_echo.documents.drafting.guesses import Guess, words_of
from fond_echo.documents.errors import NotAnExample

MAX_MESSAGES = 3


@dataclass(frozen=True)
class Caught:
    """A message as it came: its document, and of a webhook its headers and bytes."""

    document: Any
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes = b""


@dataclass
class ReadMessages:
    """Where facts stand: `each` finds the messages of a post, `paths` their facts. `values` has
    what stood there, by value."""

    each: str
    paths: dict[str, str]
    ours: str = ""
    note_when: str = ""
    values: dict[str, str] = field(default_factory=dict)
    guesses: list[Guess] = field(default_factory=list)


ID = frozenset(("id", "ref", "uid", "guid", "code", "number", "key", "sid", "uuid"))
NAME = frozenset(("name", "label", "title", "display", "nick", "username"))
SENDER = frozenset(("from", "sender", "author", "user", "contact", "member", "person", "who"))
ROOM = frozenset(("room", "chat", "conversation", "thread", "channel", "peer", "dialog", "group"))
SOUND = frozenset(("audio", "sound", "voice", "note", "media", "attachment", "file", "recording"))
OURS = frozenset(("bot", "automated", "self", "me", "outgoing", "own"))
MESSAGE = frozenset(("message", "post"))
TEXT = frozenset(("text", "words", "body", "content", "message", "caption"))
CHOICE = frozenset(("value", "payload", "data", "callback", "button", "choice"))
PRESSED = frozenset(("press", "button", "callback", "choice", "interactive", "reply"))
HANDLE = frozenset(("handle", "url", "href", "link"))
SECONDS = frozenset(("duration", "length", "seconds"))
KIND = frozenset(("kind", "type", "as", "how", "form"))


def read_messages(caught: Sequence[Caught], said: Sequence[str]) -> ReadMessages:
    """Find the facts of messages.

    Args:
        caught: the messages, each from the same person, in the order in which they came.
        said: what was typed in each; "" for one that was spoken.

    Raises:
        NotAnExample: the words stand nowhere in them, or they show nothing new.
    """
    if not caught or len(caught) > MAX_MESSAGES:
        raise NotAnExample(f"give one to {MAX_MESSAGES} messages")
    if len(said) != len(caught) or not any(said):
        raise NotAnExample(
            "say what was typed in each message",
            remedy="one text for each, and '' for a voice note",
        )
    if len({json.dumps(each.document, sort_keys=True) for each in caught}) < len(caught):
        raise NotAnExample(
            "two of the messages are the same, so that they show nothing new",
            remedy="send another text in each",
        )
    if not all(isinstance(each.document, (dict, list)) for each in caught):
        raise NotAnExample("a message is neither an object nor a list of JSON")
    typed = [number for number, words in enumerate(said) if words]
    places = [_place_of(caught[number].document, said[number]) for number in typed]
    inside, item_place = _items(places[0])
    items = [_item(each.document, inside) for each in caught]
    found = ReadMessages("$" if inside is None else f"{json_path(inside)}[*]", {})
    told = "stands there in the message in which it was typed"
    found.guesses.append(
        Guess("receive.message.text", json_path(item_place), f"{said[typed[0]]!r} {told}")
    )
    found.paths["text"] = json_path(item_place)
    typed_items = [items[number] for number in typed]
    _identities(found, typed_items)
    _ours(found, typed_items[0])
    spoken = [items[number] for number in range(len(items)) if not said[number]]
    if spoken:
        _sound(found, spoken[0], typed_items[0])
    return found


def _place_of(document: Any, words: str) -> Place:
    for place, value in leaves_of(document):
        if isinstance(value, str) and value.strip() == words.strip():
            return place
    raise NotAnExample(
        f"{words!r} stands nowhere in its message",
        remedy="give the message in which it was typed, and the words exactly as they were",
    )


def _items(place: Place) -> tuple[Place | None, Place]:
    """The list of messages in which a text stands, if there is one, and its place in its own."""
    for number, part in enumerate(place):
        if isinstance(part, int):
            return place[:number], place[number + 1 :]
    return None, place


def _item(document: Any, inside: Place | None) -> Any:
    """The last message of a post."""
    if inside is None:
        return document
    listed = document
    for part in inside:
        listed = listed[part] if isinstance(part, int) or part in listed else []
    if not isinstance(listed, list) or not listed:
        raise NotAnExample(f"there is no message at {json_path(inside)} in one of them")
    return listed[-1]


def _identities(found: ReadMessages, items: list[Any]) -> None:
    """Its id, which differs in every message; the sender and the conversation, which do not."""
    rows = [dict(leaves_of(item)) for item in items]
    first = rows[0]
    alike = {
        place: value for place, value in first.items()
        if all(row.get(place) == value for row in rows)
        and isinstance(value, (str, int)) and not isinstance(value, bool) and value != ""
    }  # fmt: skip
    differ = [place for place in first if place not in alike and all(place in row for row in rows)]
    many = len(rows) > 1
    at = _ranked(differ if many else list(first), ID, beside=MESSAGE,
                 without=SENDER | ROOM)  # fmt: skip
    if at is not None:
        why = "differs in every message" if many else "is the only message's"
        _note(found, "id", at, first[at], f"its name is {at[-1]!r}, and it {why}")
    room = _ranked(alike, ID, within=ROOM) or _ranked(alike, ROOM)
    sender = _ranked(alike, ID, within=SENDER) or _ranked(alike, SENDER)
    if sender is None and room is None:
        raise NotAnExample(
            "nothing in the messages says who sent them",
            remedy="give messages of one person as the network posts them, unshortened",
        )
    constant = "is the same in all" if many else "names it"
    for fact, place, other in (("conversation", room, sender), ("contact", sender, room)):
        at = place if place is not None else other
        assert at is not None
        because = f"{first[at]!r} stands at {json_path(at)}, which {constant}"
        if place is None:
            because = f"nothing else tells its {fact}: it is taken for that too"
        _note(found, fact, at, first[at], because)
    if sender is not None:
        around = sender[:-1]
        near = {place: value for place, value in alike.items() if place[: len(around)] == around}
        name = _ranked(near, NAME)
        if name is not None and name != sender:
            _note(found, "name", name, first[name], f"it stands beside {json_path(sender)}")


def by_names(messages: Sequence[Any]) -> dict[str, Place]:
    """Where each fact of messages stands, by the names of their fields alone.

    Args:
        messages: of any kinds; the id, conversation and contact stand in every one.
    """
    rows = [dict(leaves_of(each)) for each in messages]
    there: dict[Place, Any] = {place: value for row in rows for place, value in row.items()}
    always = [place for place in there if all(place in row for row in rows)]
    numbers = {at: v for at, v in there.items() if isinstance(v, (int, float)) and v is not True}
    found = {
        "id": _ranked(always, ID, beside=MESSAGE, without=SENDER | ROOM),
        "conversation": _ranked(always, ID, within=ROOM) or _ranked(always, ROOM),
        "contact": _ranked(always, ID, within=SENDER) or _ranked(always, SENDER),
        "name": _ranked(there, NAME, within=SENDER),
        "text": _ranked(there, TEXT, without=frozenset(("quoted", "quotes", "reply"))),
        "choice": _ranked(there, CHOICE, within=PRESSED),
        "sound": _handle(there),
        "seconds": _ranked(numbers, SECONDS, within=SOUND),
    }
    return {name: place for name, place in found.items() if place is not None}


def _handle(places: Any) -> Place | None:
    """What a recording is fetched by."""
    return _ranked(places, HANDLE, within=SOUND) or _ranked(places, ID, within=SOUND)


def _ranked(
    places: Any, last: frozenset[str], *, within: frozenset[str] = frozenset(),
    beside: frozenset[str] = frozenset(), without: frozenset[str] = frozenset(),
) -> Place | None:  # fmt: skip
    """The place whose own name fits: the shortest such one.

    Args:
        within: a name around it must be one of these, or part of its own.
        without: no name around it may be.
    """
    fitting = []
    for place in places:
        names = [part for part in place if isinstance(part, str)]
        if not names or not words_of(names[-1]) & last:
            continue
        around = set[str]().union(*(words_of(name) for name in names[:-1]), words_of(names[-1]))
        if (within and not around & within) or around & without:
            continue
        fitting.append((len(place), not around & beside, len(str(names[-1])), place))
    return min(fitting)[3] if fitting else None


def _note(found: ReadMessages, fact: str, place: Place, value: Any, because: str) -> None:
    found.paths[fact] = json_path(place)
    found.guesses.append(Guess(f"receive.message.{fact}", json_path(place), because))
    if fact in ("conversation", "contact"):
        found.values.setdefault(str(value), fact)


def _ours(found: ReadMessages, item: Any) -> None:
    for place, value in leaves_of(item):
        if value is False and words_of(str(place[-1])) & OURS:
            found.ours = json_path(place)
            because = f"{place[-1]!r} is false in messages of people"
            found.guesses.append(Guess("receive.ours", found.ours, because))
            return


def _sound(found: ReadMessages, spoken: Any, typed: Any) -> None:
    """The handle of what was spoken, and what the network calls it."""
    known = {place for place, _ in leaves_of(typed)}
    new = {place: value for place, value in leaves_of(spoken) if place not in known}
    handle = _handle(new)
    if handle is None:
        raise NotAnExample(
            "nothing in the spoken message leads to its sound",
            remedy="give the message as the network posts it, with the part about the recording",
        )
    because = "it is there in the spoken message only"
    found.paths["sound"] = json_path(handle)
    found.guesses.append(Guess("receive.message.sound", json_path(handle), because))
    found.values[str(new[handle])] = "sound"
    kind = _ranked(new, KIND, within=SOUND)
    if kind is not None and isinstance(new[kind], str):
        found.paths["sound_kind"], found.note_when = json_path(kind), str(new[kind])
        found.guesses.append(
            Guess(
                "receive.message.sound_kind", json_path(kind), f"{new[kind]!r} marks a voice note"
            )
        )
    seconds = _ranked(new, SECONDS, within=SOUND)
    if seconds is not None:
        found.paths["seconds"] = json_path(seconds)
        found.guesses.append(Guess("receive.message.seconds", json_path(seconds), because))


def signed_by(caught: Caught, key: str) -> tuple[dict[str, str], str] | None:
    """How a webhook's message is signed with a key: what `verify` says of it, and the evidence;
    None where no header holds its code."""
    for name, value in caught.headers.items():
        for kind in ("sha256", "sha1"):
            mac = hmac.new(key.encode(), caught.body, kind).digest()
            for encoding, code in (("hex", mac.hex()), ("base64", base64.b64encode(mac).decode())):
                if value.endswith(code):
                    prefix = value.removesuffix(code)
                    told = {"kind": f"hmac-{kind}", "header": name, "encoding": encoding}
                    because = f"{name} holds the HMAC of the body with the key that you gave"
                    return (told | {"prefix": prefix} if prefix else told), because
        if value == key:
            return {"kind": "header", "header": name}, f"{name} holds the key that you gave"
    return None
