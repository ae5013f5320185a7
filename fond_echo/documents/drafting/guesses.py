"""What goes to each place of a request: guesses by names and values, each with its evidence."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from fond_echo.documents.drafting.example import Example, Place

_WORDS_OF_NAME = re.compile(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\d+")

SECRET = frozenset(("token", "secret", "pass", "password", "apikey", "authorization", "auth"))
SURELY_SECRET = frozenset(("token", "secret", "pass", "password", "apikey"))
BY_NAME: dict[str, frozenset[str]] = {
    "text": frozenset(
        ("text", "words", "message", "body", "content", "input", "prompt", "question", "query",
         "caption", "utterance", "transcript", "q")
    ),
    "conversation": frozenset(
        ("to", "chat", "room", "conversation", "thread", "recipient", "channel", "peer", "dialog")
    ),
    "voice": frozenset(("voice", "speaker", "timbre")),
    "language": frozenset(("language", "lang", "locale", "tongue")),
    "seconds": frozenset(("duration", "length", "seconds")),
    "waveform": frozenset(("waveform", "peaks")),
    "key": frozenset(("idempotency", "nonce", "key")),
    "to": frozenset(("target", "to")),
    "brief": frozenset(("brief", "system", "instructions", "persona")),
}  # fmt: skip
"""Words in the names of places, by the fact that goes there."""

FACTS: dict[str, tuple[str, ...]] = {
    "text": ("key", "text", "conversation"),
    "voice-note": ("key", "waveform", "seconds", "conversation"),
    "speak": ("text", "voice", "language"),
    "transcribe": ("language",),
    "answer": ("brief", "text", "language"),
    "summarize": ("text",),
    "translate": ("to", "text", "language"),
    "draw": ("text",),
}
"""What may go to a place of each request, beside sound."""

ROLES = {
    "text": frozenset(("user", "person", "human")),
    "brief": frozenset(("system", "developer", "instructions")),
}
"""Who says it, where an example lists what each says."""

NEEDS_SOUND = frozenset(("voice-note", "transcribe"))
AS_TEMPLATE = {
    "waveform": "{{ waveform | points(64) | scale(0, 100) }}",
}
_PLACEHOLDER = re.compile(
    r"^\$?[{<\[(]?\$?[{<]?[A-Za-z]*[_ -]?(TOKEN|KEY|SECRET|PASSWORD|API)[A-Za-z_ -]*[}>\])]*$",
    re.IGNORECASE,
)
_LONG_CODE = re.compile(r"^[\w.~+/:=-]{20,}$")


@dataclass(frozen=True)
class Guess:
    """What goes to a place, and why it is thought so."""

    place: str
    template: str
    evidence: str


def shown(place: Place) -> str:
    """A place as it is named to a person: "json.message.to"."""
    return ".".join(str(part) for part in place)


def words_of(name: str) -> set[str]:
    """The words in a name, in small letters: voiceId is voice and id."""
    return {word.lower() for word in _WORDS_OF_NAME.findall(name)}


def guessed(
    example: Example, request: str, secret: str, token: str = "",
    known: Mapping[str, str] | None = None,
) -> list[Guess]:  # fmt: skip
    """What goes where in a request.

    Args:
        request: a kind of engine, or of a network "text" or "voice-note", "fetch" or "poll".
        secret: the name of the secret.
        token: its value, where it stands in the example.
        known: facts by the values that messages had: {"room-7": "conversation"}.
    """
    found: list[Guess] = []
    taken: set[str] = set()
    leaves = list(example.leaves())
    for place, value in leaves:
        if (guess := _secret(place, str(value), secret, token)) is not None:
            found.append(guess)
    done = {each.place for each in found}
    for place, value in leaves:
        fact = (known or {}).get(str(value), "")
        if fact and shown(place) not in done:
            because = f"{str(value)!r} stands in the messages that came, as their {fact}"
            found.append(Guess(shown(place), f"{{{{ {fact} }}}}", because))
            taken.add(fact)
            done.add(shown(place))
    if request in NEEDS_SOUND:
        found += _sound(leaves, done)
        done = {each.place for each in found}
    for fact in FACTS.get(request, ()):
        if fact in taken:
            continue
        named = [
            (place, value) for place, value in leaves
            if shown(place) not in done and _names(place, fact) and _fits(fact, value)
            and (place[0] != "headers" or fact == "key")
        ]  # fmt: skip
        if fact in ROLES:
            named = _in_role(example, leaves, done, ROLES[fact]) or named
        if named:
            place, value = _best(named, fact)
            because = f"its name is {_last_name(place)!r}, and it holds {str(value)[:40]!r}"
            template = AS_TEMPLATE.get(fact, f"{{{{ {fact} }}}}")
            found.append(Guess(shown(place), template, because))
            done.add(shown(place))
    if request == "fetch" and "sound" not in taken:
        found += _handle(leaves, done)
    if "text" in FACTS.get(request, ()) and not any("text" in each.template for each in found):
        found += _longest(leaves, done)
    return found


def _secret(place: Place, value: str, secret: str, token: str) -> Guess | None:
    filled = f"{{{{ secrets.{secret} }}}}"
    if token and token in value:
        what = "the token that you gave stands there"
        return Guess(shown(place), value.replace(token, filled), what)
    scheme, _, rest = value.partition(" ")
    name = words_of(_last_name(place))
    if place == ("headers", "Authorization") or "authorization" in name:
        if scheme.lower() in ("bearer", "basic", "token", "apikey", "key") and rest:
            return Guess(shown(place), f"{scheme} {filled}", f"it is the header {place[-1]}")
        return Guess(shown(place), filled, f"it is the header {place[-1]}")
    named = bool(name & SECRET) or {"api", "key"} <= name
    surely = bool(name & SURELY_SECRET) and bool(value) and " " not in value
    is_code = _LONG_CODE.match(value) or _PLACEHOLDER.match(value)
    if place[0] != "path" and named and (surely or is_code):
        because = f"its name is {_last_name(place)!r}, and it holds no word of a language"
        return Guess(shown(place), filled, because)
    if _PLACEHOLDER.match(value) and value.upper() == value:
        return Guess(shown(place), filled, f"{value!r} stands for a token")
    return None


def _sound(leaves: list[tuple[Place, Any]], done: set[str]) -> list[Guess]:
    for place, value in leaves:
        if isinstance(value, str) and value[:1] in "@<" and len(value) > 1:
            return [Guess(shown(place), "{{ sound }}", f"the example sends the file {value[1:]!r}")]
    for place, value in leaves:
        name = words_of(_last_name(place))
        sounds = name & {"audio", "sound", "voice", "file", "media", "content", "data", "recording"}
        if shown(place) not in done and place[0] == "json" and sounds and isinstance(value, str):
            because = f"its name is {_last_name(place)!r}; in JSON, sound is base64"
            return [Guess(shown(place), "{{ sound | base64 }}", because)]
    return []


def _in_role(
    example: Example, leaves: list[tuple[Place, Any]], done: set[str], roles: frozenset[str]
) -> list[tuple[Place, Any]]:
    """Texts beside which it stands that somebody of a role says them."""
    beside = {
        place[:-1] for place, value in leaves
        if words_of(_last_name(place)) & {"role", "who", "author", "from"} and value in roles
    }  # fmt: skip
    return [
        (place, value) for place, value in leaves
        if shown(place) not in done and value not in roles and isinstance(value, str)
        and any(place[: len(each)] == each for each in beside)
    ]  # fmt: skip


def _handle(leaves: list[tuple[Place, Any]], done: set[str]) -> list[Guess]:
    """The place of a recording's handle, where the example's is not that of a message: the last
    value named like one, else the last part of the address."""
    names = frozenset(("id", "handle", "ref", "file", "media", "audio", "sound"))
    open_ = [(place, value) for place, value in leaves if shown(place) not in done]
    named = [p for p, _ in open_ if p[0] in ("query", "json", "form") and _words_at(p) & names]
    parts = [place for place, _ in open_ if place[0] == "path"]
    if not (named or parts):
        return []
    place = (named or parts)[-1]
    because = f"its name is {_last_name(place)!r}" if named else "it is the end of the address"
    return [Guess(shown(place), "{{ sound }}", because)]


def _words_at(place: Place) -> set[str]:
    return words_of(_last_name(place))


def kept_places(example: Example, guesses: list[Guess]) -> dict[str, str]:
    """Places of a request's query and body that stay as the example has them."""
    done = {each.place for each in guesses}
    return {
        shown(place): str(value)[:60] for place, value in example.leaves()
        if place[0] not in ("path", "headers") and shown(place) not in done
    }  # fmt: skip


def _longest(leaves: list[tuple[Place, Any]], done: set[str]) -> list[Guess]:
    texts = [
        (place, value) for place, value in leaves
        if place[0] not in ("headers", "path") and isinstance(value, str) and " " in value
        and shown(place) not in done
    ]  # fmt: skip
    if not texts:
        return []
    place, value = max(texts, key=lambda each: len(each[1]))
    because = f"{value[:40]!r} is the longest text of the example"
    return [Guess(shown(place), "{{ text }}", because)]


def _names(place: Place, fact: str) -> bool:
    name = words_of(_last_name(place))
    if fact == "key" and "api" in name:
        return False
    return bool(name & BY_NAME[fact]) and place[0] != "path"


def _fits(fact: str, value: Any) -> bool:
    if fact in ("text", "voice", "language", "key", "to"):
        return isinstance(value, str) and value[:1] not in "@<"
    if fact == "conversation":
        return isinstance(value, (str, int)) and not isinstance(value, bool)
    return True


def _best(named: list[tuple[Place, Any]], fact: str) -> tuple[Place, Any]:
    """Of several places with a fitting name: for words, that with the longest, the last of equal
    ones, since the person speaks last; else the first."""
    if fact == "text":
        return max(enumerate(named), key=lambda each: (len(str(each[1][1]).split()), each[0]))[1]
    return named[0]


def _last_name(place: Place) -> str:
    return next((str(part) for part in reversed(place) if isinstance(part, str)), "")


def corrected(guesses: list[Guess], corrections: Mapping[str, str]) -> list[Guess]:
    """The guesses, with what a person says of a place in the place of what was thought; a
    correction that is empty leaves the place as the example has it."""
    by_place = {each.place: each for each in guesses}
    for place, template in corrections.items():
        by_place[place] = Guess(place, template, "you said so")
    return [each for each in by_place.values() if each.template]


def filled(example: Example, guesses: list[Guess]) -> Example:
    """The example with its places filled in by what goes there."""
    by_place = {each.place: each.template for each in guesses}

    def put(value: Any, at: Place) -> Any:
        if shown(at) in by_place:
            return by_place[shown(at)]
        if isinstance(value, dict):
            return {name: put(each, (*at, str(name))) for name, each in value.items()}
        if isinstance(value, list):
            return [put(each, (*at, number)) for number, each in enumerate(value)]
        return value

    path = "/".join(
        str(put(part, ("path", number))) if part else ""
        for number, part in enumerate(example.path.split("/"))
    )
    return replace(
        example,
        path=path,
        query={name: put(value, ("query", name)) for name, value in example.query.items()},
        headers={name: put(value, ("headers", name)) for name, value in example.headers.items()},
        body=put(example.body, (example.kind,)) if example.kind else None,
    )
