"""connect: a connector file from an example of a provider's documentation, step by step."""

from __future__ import annotations

import argparse
import asyncio
import base64
import json
import re
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any, get_args

from fond_echo.cli.catching import caught_by_poll, caught_by_post
from fond_echo.cli.connectors import Asked
from fond_echo.cli.errors import NotSaid
from fond_echo.cli.files import json_in, text_in
from fond_echo.cli.output import add_service, named, print_json, service
from fond_echo.contract.api import ChannelIn
from fond_echo.contract.drafting import CaughtIn, ConnectorDraft, ConnectorExamples, ExampleOf
from fond_echo.contract.engine import EngineIn, EngineKind, EngineTrialIn

if TYPE_CHECKING:
    from fond_echo.client import FondEcho

HELP = """An example is a command of curl, as documentations show it, or an OpenAPI document.
Nothing goes out before it is asked for: with --probe the service is asked once how it answers,
with --add the secret is stored for its host alone, the file is connected, and one round trip
proves it."""
SAMPLE = "The morning boat is late because of the wind."
EXAMPLES: dict[str, ExampleOf] = {"voice_note": "voice-note", "fetch": "fetch", "poll": "poll"}
DRAFTED = "# Drafted by fond-echo connect"


def add(commands: Any) -> None:
    connect = commands.add_parser(
        "connect", help="connect a network or an engine from an example", epilog=HELP,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )  # fmt: skip
    connect.add_argument("kind", choices=["network", *get_args(EngineKind)])
    connect.add_argument("name", help="what it is called here, in small letters")
    connect.add_argument("example", type=Path, help="how a text is sent, or the engine is asked")
    connect.add_argument("--operation", action="append", default=[], metavar="OF=OPERATION",
                         type=named, help="where an example is an OpenAPI document: "
                         'request="POST /say"')  # fmt: skip
    connect.add_argument("--voice-note", type=Path, metavar="FILE", help="how a voice note is sent")
    connect.add_argument("--fetch", type=Path, metavar="FILE", help="how a recording is fetched")
    connect.add_argument("--poll", type=Path, metavar="FILE", help="how messages are asked for")
    connect.add_argument("--message", type=Path, action="append", default=[], metavar="FILE",
                         help="a message that came, as JSON; up to three")  # fmt: skip
    connect.add_argument("--text", action="append", default=[], metavar="TEXT",
                         help='what was typed in it; "" for one that was spoken')  # fmt: skip
    connect.add_argument("--answer", action="append", default=[], metavar="OF=FILE", type=named,
                         help="what a request answered, as JSON: fetch=FILE")  # fmt: skip
    connect.add_argument("--token", type=Path, metavar="FILE", help="a file with the token or key")
    connect.add_argument("--signing-key", type=Path, metavar="FILE",
                         help="a file with the key that signs what a network posts")  # fmt: skip
    connect.add_argument("--map", action="append", default=[], metavar="PLACE=TEMPLATE", type=named,
                         help="what goes to a place, where the guess is wrong")  # fmt: skip
    connect.add_argument("--write", type=Path, metavar="FILE", help="where to (NAME.yaml)")
    connect.add_argument("--listen", type=int, default=0, metavar="COUNT",
                         help="wait for so many messages, one to three")  # fmt: skip
    connect.add_argument("--port", type=int, default=8799, help="where posts are caught (8799)")
    connect.add_argument("--probe", action="store_true", help="ask the service once how it answers")
    connect.add_argument("--add", action="store_true", help="connect it, and prove it")
    connect.add_argument("--assistant", default="", help="who answers on the network")
    connect.add_argument("--private", action="append", default=[], metavar="HOST:PORT",
                         help="a private host:port that may be reached")  # fmt: skip
    add_service(connect)
    connect.set_defaults(run=_connect)


def _connect(options: argparse.Namespace) -> int:
    file = options.write or Path(f"{options.name}.yaml")
    if file.exists() and not text_in(file).startswith(DRAFTED):
        what = f"{file} is there already, and was written by somebody"
        raise NotSaid(what, remedy="name another: --write FILE")
    if options.add and options.kind == "network" and not options.assistant:
        raise NotSaid("nobody answers on the network", remedy="name who does: --assistant NAME")
    given = _given(options)
    if options.listen:
        given.messages += _caught(options, given)
    if options.probe and options.kind != "network":
        given = _asked(options, given)
    # Everything is read before anything is written.
    from fond_echo.documents.drafting.drafted import drafted

    found = drafted(given)
    file.write_text(found.connector, encoding="utf-8")
    if options.json and not options.add:
        print_json(found)
    else:
        _show(found, file)
    if found.errors:
        return 1
    if not options.add:
        if not options.json:
            print("Nothing was sent or stored. To connect it, the same command with --add.")
        return 0
    with service(options) as echo:
        return _added(echo, options, given, found)


def _given(options: argparse.Namespace) -> ConnectorExamples:
    first: ExampleOf = "text" if options.kind == "network" else "request"
    examples: dict[ExampleOf, str] = {first: text_in(options.example)}
    for option, of in EXAMPLES.items():
        if (path := getattr(options, option)) is not None:
            if options.kind != "network":
                raise NotSaid(f"--{option.replace('_', '-')} is for a network")
            examples[of] = text_in(path)
    said = options.text[: len(options.message)]
    if len(said) < len(options.message) or (options.text[len(said) :] and not options.listen):
        raise NotSaid(
            f"there are {len(options.message)} messages and {len(options.text)} times --text",
            remedy='say of each what was typed in it: --message FILE --text TEXT, or --text ""',
        )
    messages = [
        CaughtIn(document=json_in(path), text=said)
        for path, said in zip(options.message, said, strict=True)
    ]
    answers: dict[Any, Any] = {of: json_in(Path(path)) for of, path in options.answer}
    return ConnectorExamples(
        kind=options.kind, name=options.name, examples=examples, messages=messages,
        operations=dict(options.operation), answers=answers, token=_secret(options.token),
        signing_key=_secret(options.signing_key),
        mapping=dict(options.map),
    )  # fmt: skip


def _secret(file: Path | None) -> str:
    return text_in(file).strip() if file is not None else ""


def _caught(options: argparse.Namespace, given: ConnectorExamples) -> list[CaughtIn]:
    """Messages that are caught while somebody sends them: asked for, or posted to us."""
    wanted = min(options.listen, 3)
    said = list(options.text[len(options.message) :])
    if options.poll is not None:
        vault = _vault(options, given)
        return asyncio.run(caught_by_poll(given, vault, options.private, wanted, said))
    return caught_by_post(options.port, wanted, said)


def _vault(options: argparse.Namespace, given: ConnectorExamples) -> Asked:
    vault = Asked({})
    if given.token:
        vault.keep(given.secret or _name_of_secret(given), given.token)
    return vault


def _name_of_secret(given: ConnectorExamples) -> str:
    return f"{given.name}-token" if given.kind == "network" else f"{given.name}-key"


def _asked(options: argparse.Namespace, given: ConnectorExamples) -> ConnectorExamples:
    """What is given, with what the service answers to a sample."""
    answer, said = asyncio.run(_answer_of(options, given))
    changed: dict[str, Any] = {"transcript": said}
    if answer is not None:
        changed["answers"] = {**given.answers, "request": answer}
    return given.model_copy(update=changed)


async def _answer_of(options: argparse.Namespace, given: ConnectorExamples) -> tuple[Any, str]:
    """What the service answers to a sample, as JSON, or None for bytes; and what was said."""
    from fond_echo.connectors.guard import guarded_client
    from fond_echo.connectors.machine import RequestMachine
    from fond_echo.connectors.wire import Payload
    from fond_echo.documents.drafting.draft import asked_once
    from fond_echo.documents.drafting.drafted import examples_of
    from fond_echo.documents.steps import Step

    example = examples_of(given)["request"]
    kind: Any = given.kind
    secret = given.secret or _name_of_secret(given)
    step, _ = asked_once(kind, example, secret, given.token, given.mapping)
    of_bytes = kind in ("speak", "draw")
    facts: dict[str, Any] = {
        "text": SAMPLE, "marked": SAMPLE, "language": "en", "voice": "", "brief": "", "hints": [],
        "to": "de", "sentences": 2, "characters": 400, "seconds": 2.0,
    }  # fmt: skip
    if kind == "transcribe":
        facts["sound"] = Payload(_sample_wav(), "audio/wav", "sample.wav")
    print(f"Asking {example.host} once.", file=sys.stderr)
    async with guarded_client(options.private) as client:
        vault = _vault(options, given)
        machine = RequestMachine(client, vault, {"base": example.base})
        if of_bytes:
            step["bytes"] = True
        found = await machine.run([Step.model_validate(step)], facts)
    said = SAMPLE if kind == "transcribe" else ""
    if not of_bytes:
        return vault.redacted(found.document), said
    try:
        return json.loads(found.payload.data if found.payload else b""), said
    except ValueError:
        return None, said


def _sample_wav() -> bytes:
    from fond_echo.core.audio.clip import join
    from fond_echo.core.audio.containers import encode
    from fond_echo.speech.material import synthesizer

    return encode(join([part.clip for part in synthesizer().speak(SAMPLE, "tern")]), "wav")


def _show(found: ConnectorDraft, file: Path) -> None:
    print(f"{file}: what goes where")
    width = max((len(each.place) for each in found.guesses), default=0)
    for guess in found.guesses:
        print(f"  {guess.place:<{width}}  {guess.template}\n  {'':<{width}}    {guess.evidence}")
    if found.unchanged:
        print("Unchanged from the example:")
        for place, value in found.unchanged.items():
            print(f"  {place:<{width}}  {value}")
    if found.limitations:
        print("Limitations:")
        for each in found.limitations:
            print(f"  {each}")
    for error in found.errors:
        print(f"  ✗ line {error.line}: {error.what} ({error.remedy})", file=sys.stderr)


def _added(
    echo: FondEcho, options: argparse.Namespace, given: ConnectorExamples, found: ConnectorDraft
) -> int:  # fmt: skip
    for name, host in found.secrets.items():
        value = given.signing_key if name.endswith("-signing") else given.token
        if not value:
            raise NotSaid(f"the secret {name} is not given", remedy="name its file: --token FILE")
        echo.put_secret(name, value, [host] if host else [])
        print(f"stored the secret {name}" + (f", for {host} alone" if host else ""))
    if given.kind == "network":
        channel = ChannelIn(
            assistant=options.assistant, connector=found.connector, values=found.values
        )
        echo.put_channel(given.name, channel)
        print(f"connected the channel {given.name}: {options.assistant} answers there. Write to it,"
              f" and see: fond-echo turn follow --channel {given.name}")  # fmt: skip
        return 0
    echo.put_engine(given.name, EngineIn(connector=found.connector, values=found.values))
    print(f"connected the engine {given.name}")
    return _proven(echo, given)


def _proven(echo: FondEcho, given: ConnectorExamples) -> int:
    """One round trip: words become sound that our own recognizer hears, or sound words."""
    from fond_echo.core.recognition.scoring import edits

    trial = EngineTrialIn(text=SAMPLE, to="de")
    if given.kind == "transcribe":
        trial = EngineTrialIn(sound=base64.b64encode(_sample_wav()).decode())
    told = echo.try_engine(given.name, trial)
    if told.asked.outcome != "done":
        print(f"✗ it did not work: {told.asked.why}", file=sys.stderr)
        return 1
    text = told.text
    if given.kind == "speak":
        heard = echo.try_engine("built-in", EngineTrialIn(sound=told.sound))
        text = heard.text
    print(f"proven in {told.asked.seconds:.2f} s: {text or told.picture_type}")
    if given.kind in ("speak", "transcribe"):
        tokens, back = (re.sub(r"[^a-z ]", "", each.lower()).split() for each in (SAMPLE, text))
        wrong = edits(tokens, back).errors
        print(f"  {SAMPLE!r} was said; {wrong} of {len(tokens)} words came back as others")
    return 0
