"""The tour: a passenger sends voice notes and texts, and what comes back is checked."""

from __future__ import annotations

import base64
import re
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

import httpx

from fond_echo.cli.output import bar
from fond_echo.cli.stages import says
from fond_echo.client import FondEcho
from fond_echo.contract.api import TurnDetail
from fond_echo.contract.base import JsonObject
from fond_echo.core.audio.clip import join
from fond_echo.core.audio.containers import encode
from fond_echo.core.audio.inspect import inspect
from fond_echo.demo.calling import Calling
from fond_echo.demo.correcting import corrected
from fond_echo.demo.free import free_answers
from fond_echo.demo.outside import call_with_engines, outside_engines
from fond_echo.demo.picturing import pictured
from fond_echo.demo.rehearsing import rehearsed
from fond_echo.demo.talk import talk
from fond_echo.speech.material import synthesizer

if TYPE_CHECKING:
    from fond_echo.demo.run import World

WAIT_SECONDS = 60.0
CALL_SECONDS = 240.0
PLEASE_WAIT = "One moment, I am looking into it."
"""As the harbour desk says it."""
TIME = r"(leaves|at) (tomorrow )?(at )?\d\d:\d\d"


@dataclass(frozen=True)
class Exchange:
    """Something a passenger sends, and what must come of it.

    Attributes:
        person: who.
        text: what is said or typed.
        voice: of the passenger, for a voice note; empty for a text.
        as_file: sent as a file of this format instead of a recording.
        route: that must be taken.
        answer: a pattern that the answer must match.
    """

    person: str
    text: str
    route: str
    answer: str
    voice: str = ""
    as_file: str = ""


EXCHANGES = (
    Exchange("isla", "When is the next boat to Brannick?", "next-sailing",
             rf"The next boat to Brannick {TIME}", voice="curlew"),
    Exchange("isla", "When is the next boat to Brannick?", "next-sailing",
             rf"The next boat to Brannick {TIME}"),
    Exchange("piet", "How much is a ticket?", "fares", r"four pounds|£4", voice="petrel"),
    Exchange("piet", "!today", "sailings-today", r"Still to sail today|no more boats"),
    Exchange("sunniva", "I lost my umbrella.", "lost-property", r"Maren Aldous", voice="sanderling",
             as_file="mp3"),
    Exchange("sunniva", "are the boats runing today", "weather-hold",
             r"running today|weather hold"),
    Exchange("piet", "My sister plays the violin in a small orchestra.",
             "fallback|did-you-mean", r"I can tell you about|not sure|id you mean", voice="eider"),
)  # fmt: skip


@dataclass
class Tour:
    """Plays the exchanges against a running demo.

    Args:
        echo: a client of the service.
        world: the running demo.
        say: where lines go.
    """

    echo: FondEcho
    world: World
    say: Callable[[str], None]
    problems: list[str] = field(default_factory=list)

    def run(self) -> int:
        """Play everything; 0 where all of it was right."""
        started = time.monotonic()
        self.calling = Calling(self.world)
        self.calling.start()
        with httpx.Client(
            base_url=self.world.places.network, trust_env=False, timeout=30.0
        ) as client:
            for number, exchange in enumerate(EXCHANGES, 1):
                self.say(f"\n{'─' * 78}\n{number}. {_headline(exchange)}")
                self._play(client, exchange)
            for scene in SCENES:
                scene(self, client)
        self.say("─" * 78)
        for problem in self.problems:
            self.say(f"✗ {problem}")
        seconds = time.monotonic() - started
        verdict = "all as it should be" if not self.problems else f"{len(self.problems)} wrong"
        played = f"{len(EXCHANGES)} exchanges and {len(SCENES)} more scenes"
        self.say(f"{played} in {seconds:.1f} s: {verdict}")
        return 1 if self.problems else 0

    def _play(self, client: httpx.Client, exchange: Exchange) -> None:
        mine = self._send(client, exchange)
        answers = self._answers(client, mine)
        turn = self._turn(mine["id"])
        if turn is None:
            self._wrong(exchange, "no turn was recorded")
            return
        self._show(turn, exchange)
        self._check(turn, exchange, answers, client)

    def _send(self, client: httpx.Client, exchange: Exchange) -> JsonObject:
        if not exchange.voice:
            answer = client.post(f"/people/{exchange.person}/say", json={"words": exchange.text})
        else:
            parts = synthesizer().speak(exchange.text, exchange.voice)
            clip = join([part.clip for part in parts])
            data = encode(clip, exchange.as_file or "wav")
            kind = "file" if exchange.as_file else "record"
            params = {"name": f"question.{exchange.as_file or 'wav'}"}
            answer = client.post(f"/people/{exchange.person}/{kind}", content=data, params=params)
        answer.raise_for_status()
        sent: JsonObject = answer.json()
        return sent

    def _answers(self, client: httpx.Client, mine: JsonObject) -> list[JsonObject]:
        deadline = time.monotonic() + WAIT_SECONDS
        while time.monotonic() < deadline:
            posts = client.get(f"/rooms/{mine['room']}/posts", params={"after": mine["number"]})
            said = [post for post in posts.json()["posts"] if post["sender"]["automated"]]
            # On a slow machine the passenger is first told that it takes a moment.
            found = [post for post in said if post.get("words") != PLEASE_WAIT]
            if found:
                return found
            time.sleep(0.05)
        return []

    def _turn(self, message: str) -> TurnDetail | None:
        deadline = time.monotonic() + WAIT_SECONDS
        while time.monotonic() < deadline:
            for each in self.echo.turns(limit=20).items:
                turn = self.echo.turn(each.id)
                if turn.inbound.get("id") == message and turn.finished_at is not None:
                    return turn
            time.sleep(0.1)
        return None

    def _show(self, turn: TurnDetail, exchange: Exchange) -> None:
        if turn.sound:
            seconds = turn.sound.seconds or 0.0
            self.say(f"   in      {bar(turn.sound.waveform)} {seconds:.1f} s, "
                     f"{turn.sound.media_type}, {turn.sound.size:,} bytes")  # fmt: skip
        self.say(f"   heard   {turn.text}" if turn.sound else f"   read    {turn.text}")
        self.say(f"   route   {turn.route}")
        for delivery in turn.deliveries:
            self.say(f"   answer  {delivery.text}".replace("\n", "\n           "))
            if delivery.clip:
                clip = delivery.clip
                self.say(f"   out     {bar(clip.waveform)} {clip.seconds or 0:.1f} s, "
                         f"{clip.media_type}, {clip.size:,} bytes")  # fmt: skip
        for run in turn.runs:
            for stage in run.stages:
                if stage.name in ("receive",):
                    continue
                reported = says(stage)[:80].replace("\n", " ")
                self.say(f"   · {stage.name:<10} {stage.seconds * 1000:>6.0f} ms  {reported}")
        if turn.finished_at:
            total = (turn.finished_at - turn.received_at).total_seconds()
            self.say(f"   from arrival to answer: {total * 1000:.0f} ms")

    def _check(
        self,
        turn: TurnDetail,
        exchange: Exchange,
        answers: list[JsonObject],
        client: httpx.Client,
    ) -> None:
        if turn.state != "answered":
            self._wrong(exchange, f"the turn is {turn.state}: {turn.error}")
        if not re.fullmatch(exchange.route, turn.route):
            self._wrong(exchange, f"the route was {turn.route}, not {exchange.route}")
        text = " ".join(delivery.text for delivery in turn.deliveries)
        if not re.search(exchange.answer, text):
            self._wrong(exchange, f"the answer was {text!r}")
        # Choices are a post of their own beside a voice note.
        if not 1 <= len(answers) <= len(turn.deliveries):
            self._wrong(exchange, f"{len(answers)} answers came back")
            return
        answer, *beside = answers
        for each in beside:
            # What can be pressed stands beside the voice note: choices, or a link.
            if not (each.get("buttons") or each.get("words", "").startswith("http")):
                self._wrong(exchange, f"beside the answer stands {each.get('words')!r}")
        if not exchange.voice:
            if not re.search(exchange.answer, answer.get("words", "")):
                self._wrong(exchange, f"in the chat stands {answer.get('words')!r}")
            return
        sound = answer.get("sound") or {"as": "nothing", "why": "no sound"}
        if sound["as"] != "note":
            self._wrong(exchange, f"the answer shows as {sound['as']}: {sound['why']}")
            return
        report = inspect(client.get(f"/sounds/{sound['handle']}").content)
        if not report.voice_note:
            self._wrong(exchange, "; ".join(each.what for each in report.findings))

    def _check_repeats(self, client: httpx.Client) -> None:
        """The network tells of some posts twice: each must have become one turn all the same."""
        reported = [each["post"] for each in client.get("/told").json()["deliveries"]]
        twice = {post for post in reported if reported.count(post) > 1}
        turns = [self.echo.turn(each.id) for each in self.echo.turns(limit=200).items]
        ids = [turn.inbound.get("id") for turn in turns]
        doubled = {post for post in twice if ids.count(post) > 1}
        self.say(f"\nThe network delivered {len(twice)} posts twice; "
                 f"{len(doubled)} of them became two turns.")  # fmt: skip
        if doubled:
            self.problems.append(f"doubled turns: {sorted(doubled)}")

    def _kill_a_worker(self, client: httpx.Client) -> None:
        """The worker is killed in the middle of turns: each is answered all the same, once."""
        self._part("The worker is killed while voice notes are being worked on")
        work = next(part for part in self.world.supervisor.parts if part.name == "work")
        people = ("isla", "piet", "sunniva")
        question = Exchange("", "When is the next boat to Pell?", "next-sailing", "Pell", "curlew")
        mine = [self._send(client, replace(question, person=person)) for person in people]
        time.sleep(0.25)
        assert work.process is not None
        work.process.kill()
        work.process.wait()
        self.say("   ✂ killed")
        begun = time.monotonic()
        answers = [self._answers(client, each) for each in mine]
        seconds = time.monotonic() - begun
        time.sleep(1.0)
        counts = [len(self._answers(client, each)) for each in mine]
        self.say(f"   answers to {', '.join(people)}: {counts}, {seconds:.1f} s after the kill")
        if counts != [1, 1, 1] or not all(answers):
            self._problem(f"after the kill there were {counts} answers, not one each")

    def _conversation(self, client: httpx.Client) -> None:
        """A booking asked for by voice and answered by text, with a correction; a page's answer;
        a question back; a goodbye."""
        self._part("Isla books a bicycle place, asks from the handbook, and says goodbye")
        said = Exchange("isla", "I'd like to book a bicycle place.", "book-bicycle",
                        "To which island", voice="curlew")  # fmt: skip
        self._hear_and_check(client, said)
        for text, answer in (
            ("Brannick", "For which day"),
            ("tomorrow", "How many places"),
            ("two", r"2 bicycle places to Brannick on .*right\?"),
            ("no, Pell", r"2 bicycle places to Pell on .*right\?"),
            ("yes", r"Booked: 2 bicycle places to Pell.*Your word for the deck hand"),
            ("Can I bring my dog?", r"Dogs travel free.*\(animals and bicycles, Dogs\)"),
            ("are you allowed to take sheep", r"Did you mean: Book a bicycle place\?"),
            ("no", "I can tell you about"),
            ("thanks, bye!", "Goodbye, and fair winds"),
        ):
            self._hear_and_check(client, Exchange("isla", text, "", answer))

    def _hear_and_check(self, client: httpx.Client, exchange: Exchange) -> None:
        turn = self._turn(self._send(client, exchange)["id"])
        text = " ".join(each.text for each in turn.deliveries) if turn else ""
        self.say(f"   {_headline(exchange)}")
        self.say(f"     {text}".replace("\n", "\n     "))
        if not re.search(exchange.answer, text, re.DOTALL):
            self._problem(f"{_headline(exchange)}: the answer was {text!r}")

    def _second_network(self, _: httpx.Client) -> None:
        """A network of another shape, and a contact that is not on the channel's list."""
        self._part("Spindrift, a polled network, and somebody who is not on its list")
        with httpx.Client(base_url=self.world.places.second, trust_env=False, timeout=30) as client:

            def ask(**said: str) -> str:
                item = client.post("/people/tobin", json=said).json()
                deadline = time.monotonic() + WAIT_SECONDS
                while time.monotonic() < deadline:
                    found = client.get("/threads/thread-tobin", params={"since": item["ref"]})
                    for each in found.json():
                        if each["from"]["code"] == "desk":
                            spoken = "[voice note]" if each.get("audio") else ""
                            return str(each["body"] or spoken)
                    time.sleep(0.1)
                return ""

            refused = ask(body="How much is a ticket?")
            self.say(f"   Tobin, not on the list: {refused}")
            contacts = self.echo.contacts("spindrift", "refused").items
            names = [each.external_id for each in contacts]
            self.say(f"   the operator sees: {', '.join(names)}, and lets tobin in")
            for each in contacts:
                self.echo.set_standing("spindrift", each.id, "allowed")
            text = ask(body="How much is a ticket?")
            self.say("   Tobin types: How much is a ticket?")
            self.say(f"   answer  {text}".replace("\n", "\n           "))
            parts = synthesizer().speak("What are the fares?", "eider")
            note = encode(join([part.clip for part in parts]), "ogg")
            aloud = ask(content=base64.b64encode(note).decode())
            self.say(f"   Tobin says: What are the fares?\n   answer  {aloud}")
        if "crew" not in refused or "tobin" not in names:
            self._problem(f"an unlisted contact was answered {refused!r}, refused were {names}")
        if "Adult" not in text or aloud != "[voice note]":
            self._problem(f"on the second network the answers were {text!r} and {aloud!r}")

    def _http_channel(self, _: httpx.Client) -> None:
        """One request with sound, one answer with sound."""
        self._part("The HTTP channel: one request with sound in it")
        parts = synthesizer().speak("Is it too windy to sail?", "dunlin")
        sound = encode(join([part.clip for part in parts]), "flac")
        reported = self.echo.ask_aloud("desk", sound, "somebody")
        heard = reported.heard.written if reported.heard else ""
        self.say(f"   heard   {heard}\n   route   {reported.route}\n   answer  {reported.answer}")
        if reported.sound:
            self.say(
                f"   out     {bar(reported.sound.waveform)} {reported.sound.seconds or 0:.1f} s"
            )
        if reported.route != "weather-hold" or reported.sound is None:
            self._problem(f"over HTTP the route was {reported.route}, the sound {reported.sound}")

    def _gale_line(self, _: httpx.Client) -> None:
        """An assistant that asks what to do about a sailing that is off."""
        self._part("gale-line: keep, move or cancel, in words or by choice")
        for said, wanted in (
            ("move it please", "To which day"),
            ("Friday", "Is that right"),
            ("no, Saturday", "Saturday.*right"),
            ("yes", "moved to Saturday"),
        ):
            reported = self.echo.ask("gale", said, "tobin")
            self.say(f"   {said:<16} {reported.answer}")
            if not re.search(wanted, reported.answer):
                self._problem(f"gale-line answered {reported.answer!r} to {said!r}")

    def _telephone(self, _: httpx.Client) -> None:
        """What became of the calls that went on all the while."""
        self._part("The telephone, all this while")
        self.calling.join(CALL_SECONDS)
        if self.calling.is_alive():
            self._problem(f"the calls were not over after {CALL_SECONDS:.0f} s")
        for lines in self.calling.lines.values():
            for line in lines:
                self.say(f"   {line}")
        call_with_engines(self.echo, self.say, self._problem)
        for call in self.calling.calls:
            self.say(f"   the call to {call.number}: {call.cause} by {call.by}, "
                     f"answered by {call.answered_by}, {call.seconds or 0:.0f} s")  # fmt: skip
        for problem in self.calling.problems:
            self._problem(problem)

    def _part(self, title: str) -> None:
        self.say(f"\n{'─' * 78}\n{title}")

    def _problem(self, what: str) -> None:
        self.problems.append(what)
        self.say(f"   ✗ {what}")

    def _wrong(self, exchange: Exchange, what: str) -> None:
        self._problem(f"{_headline(exchange)}: {what}")

    def _outside_engines(self, client: httpx.Client) -> None:
        self._part("The provider Gannet hears, answers and speaks; then it fails.")
        outside_engines(self.echo, self.world, self.say, self._problem)

    def _free_answers(self, _: httpx.Client) -> None:
        self._part("One engine that answers everything: it chooses routes, books after a yes.")
        free_answers(self.echo, self.world, self.say, self._problem)

    def _scenarios(self, _: httpx.Client) -> None:
        self._part("The demo's four scenarios, as chats and as calls.")
        rehearsed(self.say, self._problem)

    def _talks(self, client: httpx.Client) -> None:
        self._part(
            "A slow answer, words for the quay's loudspeaker, and a report for the deck log."
        )
        talk(self.echo, self.world, client, self.say, self._problem)

    def _sent_files(self, client: httpx.Client) -> None:
        """A picture goes to business logic, and a file of another kind does not."""
        self.say(f"\n{'─' * 78}\nSunniva sends a picture of what she lost, then a film.")
        pictured(client, self._answers, self.say, self.problems.append)

    def _corrected(self, client: httpx.Client) -> None:
        self._part("A question goes wrong: replayed on a changed draft, kept as a case, published.")
        corrected(self.echo, self.world, self.say, self._problem)


def _headline(exchange: Exchange) -> str:
    how = "types"
    if exchange.voice:
        how = f"sends a file ({exchange.as_file})" if exchange.as_file else "says"
    return f"{exchange.person.title()} {how}: {exchange.text}"


SCENES: tuple[Callable[[Tour, httpx.Client], None], ...] = (
    Tour._outside_engines,
    Tour._free_answers,
    Tour._check_repeats,
    Tour._kill_a_worker,
    Tour._conversation,
    Tour._second_network,
    Tour._http_channel,
    Tour._gale_line,
    Tour._sent_files,
    Tour._corrected,
    Tour._talks,
    Tour._scenarios,
    Tour._telephone,
)
