"""A connector file made of examples, with each guess and its evidence."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import yaml

from fond_echo.contract.base import JsonObject
from fond_echo.contract.engine import EngineKind
from fond_echo.documents.drafting.answers import confidence_in, data_in, words_in
from fond_echo.documents.drafting.example import Example
from fond_echo.documents.drafting.guesses import (
    Guess,
    corrected,
    filled,
    guessed,
    kept_places,
    words_of,
)
from fond_echo.documents.drafting.messages import Caught, ReadMessages, read_messages, signed_by
from fond_echo.documents.errors import NotAnExample

FILE = "file"
"""An answer that is no JSON: the bytes themselves."""

CURSORS = frozenset(("cursor", "since", "after", "offset", "last", "next", "from"))
ENGINE_CANNOT: dict[str, tuple[tuple[str, str], ...]] = {
    "speak": (("{{ voice", "one voice for everything: the example names none"),
              ("{{ language", "it is not told the language")),
    "transcribe": (("{{ language", "it is not told the language"),
                   ("{{ hints", "it is not told what is expected (hints)")),
    "answer": (("{{ brief", "it is not told the assistant's brief"),
               ("{{ turns", "it is not told the turns before"),
               ("{{ passages", "it is not told what documents say"),
               ("{{ functions", "it cannot have functions called or choose a route")),
    "translate": (("{{ to", "it is not told which language is wanted"),),
}  # fmt: skip
"""What an engine cannot do whose request never asks for a fact."""

NETWORK_CANNOT = {
    "choices": "no buttons: choices go out as a numbered list",
    "picture": "pictures go out as addresses",
    "file": "files go out as addresses",
    "edit": "what was sent cannot be changed",
    "delete": "what was sent cannot be taken back",
    "indicator": "nobody sees that an answer is being made",
}


@dataclass
class Draft:
    """A connector file: its text, the values with which it is connected, the secrets that it
    needs with the host of each, guesses with their evidence, the places that stay as the example
    has them, and what it cannot do."""

    file: str
    values: dict[str, str]
    secrets: dict[str, str]
    guesses: list[Guess] = field(default_factory=list)
    unchanged: dict[str, str] = field(default_factory=dict)
    limitations: list[str] = field(default_factory=list)


def engine_draft(
    name: str, does: EngineKind, example: Example, *, secret: str = "", token: str = "",
    answer: Any = FILE, said: str = "", corrections: Mapping[str, str] | None = None,
) -> Draft:  # fmt: skip
    """An engine's connector file.

    Args:
        example: how the service is asked once.
        answer: what it answered; FILE for bytes.
        said: what was said in the sound of which `answer` is the transcript.
        corrections: what goes to a place, where the guess is wrong.

    Raises:
        NotAnExample: the words or the sound would have no place, or stand nowhere in the answer.
    """
    secret = secret or f"{name}-key"
    step, guesses = asked_once(does, example, secret, token, corrections or {})
    found: JsonObject = {"engine": name, "does": does}
    steps, result = [step], JsonObject()
    if does == "transcribe":
        found["sound"] = {"format": "wav", "rate": 16_000}
    if does in ("speak", "draw"):
        steps = _of_bytes(step, answer, guesses)
    else:
        if answer == FILE:
            raise NotAnExample(
                "it must be known how the service answers",
                remedy="give one of its answers as JSON, or have it asked once",
            )
        path, guess = words_in(answer, said)
        guesses.append(guess)
        step["take"], result["text"] = {"words": path}, "{{ words }}"
        if does == "transcribe" and (sure := confidence_in(answer)) is not None:
            guesses.append(sure)
            step["take"]["sure"], result["confidence"] = sure.template, "{{ sure }}"
    found["request"] = steps
    if result:
        found["result"] = result
    asked = yaml.safe_dump(steps)
    cannot = [what for fact, what in ENGINE_CANNOT.get(does, ()) if fact not in asked]
    kept = kept_places(example, guesses)
    return _drafted(found, example, secret, guesses, cannot, kept)


def asked_once(
    does: EngineKind, example: Example, secret: str, token: str, corrections: Mapping[str, str]
) -> tuple[JsonObject, list[Guess]]:
    """How a service is asked, as a step of a connector file that says nothing of the answer yet.
    Raises NotAnExample, as `engine_draft`."""
    guesses = corrected(guessed(example, does, secret, token), corrections)
    wanted, what = ("sound", "sound") if does == "transcribe" else ("text", "words")
    if not any(wanted in each.template for each in guesses):
        raise NotAnExample(
            f"nothing in the example is a place for the {what}",
            remedy=f"say which: --map PLACE='{{{{ {wanted} }}}}'",
        )
    return _step(filled(example, guesses), guesses), guesses


def _of_bytes(step: JsonObject, answer: Any, guesses: list[Guess]) -> list[JsonObject]:
    """The steps that end with the bytes of a sound or a picture."""
    if answer == FILE:
        step["bytes"] = True
        return [step]
    how, path, guess = data_in(answer)
    guesses.append(guess)
    if how == "base64":
        step["base64"] = path
        return [step]
    step["take"] = {"place": path}
    return [step, {"get": "{{ place }}", "bytes": True}]


def plain_step(name: str, example: Example, token: str) -> JsonObject:
    """A request of a network as it stands in its example, with the secret in its place."""
    found = guessed(example, "poll", f"{name}-token", token)
    return _step(filled(example, found), found)


def network_draft(
    name: str, examples: Mapping[str, Example], caught: Sequence[Caught], said: Sequence[str], *,
    secret: str = "", token: str = "", signing_key: str = "",
    answers: Mapping[Any, Any] | None = None, corrections: Mapping[str, str] | None = None,
) -> Draft:  # fmt: skip
    """A chat network's connector file.

    Args:
        examples: its requests: "text" must be there, and "voice-note", "fetch" and "poll" may be.
        caught, said: messages that came, and what was typed in each.
        signing_key: with which the network signs what it posts.
        answers: what requests answered; FILE for bytes. Of "poll" it is the first message's
            document, where none is given.

    Raises:
        NotAnExample: what is needed stands nowhere in them.
    """
    if "text" not in examples:
        raise NotAnExample("there is no example of how a text is sent", remedy="give one")
    secret, answers, changes = secret or f"{name}-token", answers or {}, corrections or {}
    read = read_messages(caught, said)
    guesses = _corrected_places(read, changes)
    cannot = list[str]()
    if len(caught) == 1:
        cannot.append("only one message is known: look at id, conversation and contact yourself")
    made: dict[str, list[JsonObject]] = {}
    kept: dict[str, str] = {}
    for request, example in examples.items():
        own = {
            place.removeprefix(f"{request}."): template for place, template in changes.items()
            if place.startswith(f"{request}.")
        }  # fmt: skip
        found = corrected(guessed(example, request, secret, token, read.values), own)
        if request == "poll":
            found = [*found, *_cursor(example, found)]
        step = _step(filled(example, found), found)
        if example.base != examples["text"].base:
            for method in ("get", "post", "put", "patch", "delete"):
                if method in step:
                    step[method] = step[method].replace("{{ base }}", example.base)
        made[request] = [step]
        left = kept_places(example, found)
        kept |= {f"{request}.{place}": value for place, value in left.items()}
        guesses += [
            Guess(f"{request}.{each.place}", each.template, each.evidence) for each in found
        ]
    _must_have(made["text"], ("text",), "a text")
    receive = _receive(read, made.get("poll"), caught, answers, guesses)
    if "webhook" in receive:
        signed = signed_by(caught[0], signing_key) if signing_key else None
        if signed is not None:
            key = f"{name}-signing"
            receive["webhook"]["verify"] = {**signed[0], "key": {"secret": key}}
            guesses.append(Guess("receive.webhook.verify", signed[0]["header"], signed[1]))
        else:
            cannot.append("posts are not verified: they are taken from this machine only, until "
                          "receive.webhook.verify says how they are signed")  # fmt: skip
    document: JsonObject = {"network": name, "receive": receive}
    if "fetch" in made and "sound" in read.paths:
        _must_have(made["fetch"], ("sound",), "the handle of a sound")
        document["fetch"] = _of_bytes(made["fetch"][0], answers.get("fetch", FILE), guesses)
    else:
        for fact in ("sound", "sound_kind", "seconds"):
            receive["message"].pop(fact, None)
        receive.pop("note_when", None)
        cannot.append("voice notes are not heard: it takes a spoken message and an example of how "
                      "its sound is fetched")  # fmt: skip
    document["send"] = {"text": made["text"]}
    if "voice-note" in made:
        _must_have(made["voice-note"], ("sound",), "a voice note")
        document["send"]["voice"] = made["voice-note"]
    else:
        cannot.append("no voice notes go out: give an example of how one is sent")
    if not read.ours:
        cannot.append("nothing says which messages are our own: where the network gives back what "
                      "is posted, write receive.ours, or it answers itself")  # fmt: skip
    cannot += NETWORK_CANNOT.values()
    draft = _drafted(document, examples["text"], secret, guesses, cannot, kept)
    if "verify" in receive.get("webhook", {}):
        draft.secrets[f"{name}-signing"] = ""
    return draft


def _corrected_places(read: ReadMessages, changes: Mapping[str, str]) -> list[Guess]:
    """The guesses about messages, with what a person says in their place."""
    own = {place: path for place, path in changes.items() if place.startswith("receive.")}
    for place, path in own.items():
        _, _, fact = place.rpartition(".")
        if place.startswith("receive.message."):
            read.paths[fact] = path
        elif fact in ("ours", "each", "note_when"):
            setattr(read, fact, path)
        else:
            known = "receive.message.FACT, receive.ours, receive.each or receive.note_when"
            raise NotAnExample(f"{place} is no place of messages", remedy=f"write {known}")
    return corrected(read.guesses, own)


def _receive(
    read: ReadMessages, poll: list[JsonObject] | None, caught: Sequence[Caught],
    answers: Mapping[Any, Any], guesses: list[Guess],
) -> JsonObject:  # fmt: skip
    """How messages come in, and where their facts stand."""
    receive: JsonObject = {}
    if poll is not None:
        (step,) = poll
        document = answers.get("poll", caught[-1].document)
        step["cursor"] = _next_cursor(document, read, guesses)
        step["every"] = "1s"
        receive["poll"] = step
    else:
        receive["webhook"] = {}
    receive["each"] = read.each
    if read.ours:
        receive["ours"] = read.ours
    if read.note_when:
        receive["note_when"] = read.note_when
    receive["message"] = dict(read.paths)
    return receive


def _next_cursor(document: Any, read: ReadMessages, guesses: list[Guess]) -> str:
    """Where the place stands from which the network is asked next time."""
    for key, value in document.items() if isinstance(document, dict) else ():
        if isinstance(value, (str, int)) and words_of(key) & CURSORS:
            because = f"its name is {key!r}, and it stands beside the messages"
            guesses.append(Guess("receive.poll.cursor", f"$.{key}", because))
            return f"$.{key}"
    path = f"{read.each.removesuffix('[*]')}[-1]{read.paths['id'].removeprefix('$')}"
    guesses.append(Guess("receive.poll.cursor", path, "it is the id of the last message"))
    return path


def _cursor(example: Example, found: list[Guess]) -> list[Guess]:
    """The place of the cursor in a request for messages."""
    done = {each.place for each in found}
    for place, _ in example.leaves():
        name = ".".join(map(str, place))
        is_open = place[0] in ("query", "json", "form") and name not in done
        if is_open and words_of(str(place[-1])) & CURSORS:
            return [Guess(name, "{{ cursor }}", f"its name is {place[-1]!r}")]
    raise NotAnExample(
        "nothing in the example of poll says from where on messages are wanted",
        remedy="say which: --map poll.query.NAME='{{ cursor }}'",
    )


def _must_have(steps: list[JsonObject], facts: tuple[str, ...], what: str) -> None:
    asked = yaml.safe_dump(steps)
    for fact in facts:
        if f"{{{{ {fact}" not in asked:
            raise NotAnExample(
                f"nothing in the example is a place for {what}",
                remedy=f"say which: --map text.json.NAME='{{{{ {fact} }}}}'",
            )


def _step(example: Example, guesses: Sequence[Guess]) -> JsonObject:
    """A request as a step of a connector file."""
    step: JsonObject = {example.method.lower(): f"{{{{ base }}}}{example.path}"}
    if example.headers:
        step["headers"] = dict(example.headers)
    if example.query:
        step["query"] = dict(example.query)
    if example.kind == "bytes":
        step["bytes"] = next((e.template for e in guesses if "sound" in e.template), example.body)
    elif example.kind:
        step[example.kind] = example.body
    return step


def _drafted(
    document: JsonObject, example: Example, secret: str, guesses: list[Guess], cannot: list[str],
    kept: dict[str, str],
) -> Draft:  # fmt: skip
    text = yaml.safe_dump(document, sort_keys=False, allow_unicode=True, width=1_000)
    used = f"secrets.{secret}" in text
    head = [f"# Drafted by fond-echo connect from an example of {example.host}. What goes where:"]
    head += [f"#   {each.place} is {each.template}: {each.evidence}".replace("\n", " ")
             for each in guesses]  # fmt: skip
    head += ["# Limitations:", *(f"#   {each}" for each in cannot)] if cannot else []
    secrets = {secret: example.host} if used else {}
    file = "\n".join(head) + "\n" + text
    return Draft(file, {"base": example.base}, secrets, guesses, kept, cannot)
