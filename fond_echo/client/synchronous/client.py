"""The synchronous client."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from types import TracebackType
from typing import Literal, TypeVar

import httpx

from fond_echo.client import calls
from fond_echo.client.call import Call, unreachable
from fond_echo.client.synchronous.assistants import AssistantCalls
from fond_echo.client.synchronous.engines import EngineCalls
from fond_echo.contract.api import (
    AnsweringIn,
    ChannelIn,
    ChannelOut,
    ConversationOut,
    KeyOut,
    LoadIn,
    Me,
    NewKey,
    Page,
    Scope,
    SecretOut,
    SubscriptionOut,
    TurnDetail,
    TurnOut,
    UnreadableOut,
)
from fond_echo.contract.asking import AskOut, FileIn
from fond_echo.contract.base import JsonObject
from fond_echo.contract.call import CallDetail, CallIn, CallOut
from fond_echo.contract.contacts import (
    ContactOut,
    WordsInRevision,
)
from fond_echo.contract.drafting import ConnectorDraft, ConnectorExamples
from fond_echo.contract.renditions import ConversionOut, DeliverAs, RenditionIn, RenditionOut
from fond_echo.contract.reply import Choice
from fond_echo.contract.saying import SayIn, SayOut, ScheduledOut
from fond_echo.contract.speech import ListenIn
from fond_echo.contract.turn import Heard

Answer = TypeVar("Answer")


class FondEcho(AssistantCalls, EngineCalls):
    """A client of one installation.

    Args:
        address: of its web process.
        key: with the scopes that the calls need.

    Every method raises Refused for a problem, and Unreachable where nothing answers.
    """

    def __init__(self, address: str, key: str, *, seconds: float = 30.0) -> None:
        self._address = address.rstrip("/")
        self._headers = {"Authorization": f"Bearer {key}"}
        self._client = httpx.Client(
            base_url=self._address,
            headers=self._headers,
            timeout=seconds,
            trust_env=False,
        )

    def __enter__(self) -> FondEcho:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._client.close()

    def make(self, call: Call[Answer]) -> Answer:
        """Make any call of `fond_echo.client.calls`."""
        try:
            response = self._client.request(
                call.method,
                call.path,
                json=call.json,
                content=call.content,
                params=call.query or None,
            )
        except httpx.HTTPError as error:
            raise unreachable(self._address, error) from error
        return call.finish(response)

    def me(self) -> Me:
        """Who the key belongs to."""
        return self.make(calls.me())

    def load_conversation(self, channel: str, given: LoadIn) -> ConversationOut:
        """Load an exported conversation, to go on with it."""
        return self.make(calls.load_conversation(channel, given))

    def say_to(self, conversation: str, text: str) -> TurnDetail:
        """Say something to a contact in your own words."""
        return self.make(calls.say_to(conversation, text))

    def set_answering(self, conversation: str, by: Literal["assistant", "operator"]) -> AnsweringIn:
        """Let the assistant answer, or a person."""
        return self.make(calls.set_answering(conversation, by))

    def channels(self) -> list[ChannelOut]:
        """All channels."""
        return self.make(calls.channels())

    def put_channel(self, name: str, channel: ChannelIn) -> ChannelOut:
        """Add or change a channel, and connect it."""
        return self.make(calls.put_channel(name, channel))

    def pause_channel(self, name: str) -> ChannelOut:
        """Stop polling a channel's network; connecting it goes on where it stopped."""
        return self.make(calls.pause_channel(name))

    def unreadable(self, name: str) -> list[UnreadableOut]:
        """A channel's latest messages that could not be read."""
        return self.make(calls.unreadable(name))

    def connect_channel(self, name: str) -> ChannelOut:
        """Connect a channel again."""
        return self.make(calls.connect_channel(name))

    def secrets(self) -> list[SecretOut]:
        """Names and hosts of all secrets."""
        return self.make(calls.secrets())

    def say(self, channel: str, given: SayIn) -> SayOut:
        """Words to contacts who have not just asked; what became of it for each."""
        return self.make(calls.say(channel, given))

    def scheduled_messages(self, channel: str) -> list[ScheduledOut]:
        """Words that wait for their time on a channel, the earliest first."""
        return self.make(calls.scheduled_messages(channel))

    def cancel_messages(self, channel: str, key: str) -> None:
        """Take back words that wait under a key."""
        self.make(calls.cancel_messages(channel, key))

    def set_opted_out(self, channel: str, contact_id: str, opted_out: bool) -> ContactOut:
        """Choose whether a contact may be written to first."""
        return self.make(calls.set_opted_out(channel, contact_id, opted_out))

    def draft_connector(self, given: ConnectorExamples) -> ConnectorDraft:
        """A connector file drafted from examples and messages; nothing goes out for it."""
        return self.make(calls.draft_connector(given))

    def put_secret(self, name: str, value: str, hosts: list[str]) -> SecretOut:
        """Store or replace a secret, bound to hosts."""
        return self.make(calls.put_secret(name, value, hosts))

    def conversations(self, cursor: str = "", limit: int = 50) -> Page[ConversationOut]:
        """Conversations, the latest first."""
        return self.make(calls.conversations(cursor, limit))

    def conversation(self, conversation_id: str) -> ConversationOut:
        """A conversation, by its id or the end of it that lists show."""
        return self.make(calls.conversation(conversation_id))

    def turns(
        self,
        conversation: str = "",
        channel: str = "",
        state: str = "",
        cursor: str = "",
        limit: int = 50,
        text: str = "",
        verdict: str = "",
        draft: bool | None = None,
    ) -> Page[TurnOut]:
        """Turns, the latest first.

        Args:
            text: words that were all said, among the first 100,000 characters of each.
            verdict: only those whose free answer was judged so, such as "unsupported".
            draft: only testers' turns, or only those of everyone else.
        """
        return self.make(
            calls.turns(conversation, channel, state, cursor, limit, text, verdict, draft)
        )

    def turn(self, turn_id: str) -> TurnDetail:
        """A turn with all that was recorded of it."""
        return self.make(calls.turn(turn_id))

    def sound(self, clip_id: str) -> bytes:
        """The bytes of a clip."""
        return self.make(calls.sound(clip_id))

    def transcribe(self, sound: bytes, requested: ListenIn | None = None) -> Heard:
        """What is said in a sound file of any kind."""
        return self.make(calls.transcribe(sound, requested or ListenIn()))

    def rendition(self, given: RenditionIn) -> RenditionOut:
        """A text or SSML as sound, with the times of its words: as base64, as a data URI, or as a
        link, whichever `deliver_as` says."""
        return self.make(calls.rendition(given))

    def rendered(self, given: RenditionIn) -> bytes:
        """A text or SSML as the bytes of a sound."""
        return self.make(calls.rendered(given))

    def render(self, given: RenditionIn) -> Iterator[bytes]:
        """A text or SSML as the bytes of a sound, while it is made. Raises Refused, or
        Unreachable."""
        call = calls.rendered(given)
        try:
            with self._client.stream(call.method, call.path, json=call.json) as response:
                if response.status_code >= 400:
                    response.read()
                    call.finish(response)
                yield from response.iter_bytes()
        except httpx.HTTPError as error:
            raise unreachable(self._address, error) from error

    def converted(
        self, sound: bytes, *, loudness: float | None = None, trim: bool = False
    ) -> bytes:
        """Any sound as a proper voice note."""
        made: bytes = self.make(calls.conversion(sound, "bytes", loudness, trim))
        return made

    def conversion(
        self,
        sound: bytes,
        *,
        deliver_as: DeliverAs = "base64",
        loudness: float | None = None,
        trim: bool = False,
    ) -> ConversionOut:
        """The same, with what the sound was and what was wrong with it."""
        made: ConversionOut = self.make(calls.conversion(sound, deliver_as, loudness, trim))
        return made

    def channel(self, name: str) -> ChannelOut:
        """A channel."""
        return self.make(calls.channel(name))

    def rename_channel(self, name: str, new: str) -> ChannelOut:
        """Give a channel another name; what came in over it goes along."""
        return self.make(calls.rename_channel(name, new))

    def delete_channel(self, name: str) -> None:
        """Take a channel away that nothing has come in over."""
        return self.make(calls.delete_channel(name))

    def contacts(self, channel: str, standing: str = "", cursor: str = "") -> Page[ContactOut]:
        """Contacts of a channel, the latest first."""
        return self.make(calls.contacts(channel, standing, cursor))

    def set_standing(self, channel: str, contact_id: str, standing: str) -> ContactOut:
        """Allow, refuse or block a contact."""
        return self.make(calls.set_standing(channel, contact_id, standing))

    def testers(self, channel: str) -> list[ContactOut]:
        """Contacts of a channel whom the assistant's draft answers."""
        return self.make(calls.testers(channel))

    def add_tester(self, channel: str, contact: str, name: str = "") -> ContactOut:
        """Answer a contact, named by its id on the network, by the draft from now on."""
        return self.make(calls.add_tester(channel, contact, name))

    def remove_tester(self, channel: str, contact_id: str) -> ContactOut:
        """Answer a tester by what is live again."""
        return self.make(calls.remove_tester(channel, contact_id))

    def erase_contact(
        self, channel: str, contact_id: str, confirm: bool | None = None
    ) -> ContactOut:
        """Erase all that a contact said and was told. Where its words stand in revisions of
        assistants, `confirm` says whether those are rewritten without them (True) or stay."""
        return self.make(calls.erase_contact(channel, contact_id, confirm))

    def words_in_revisions(self, channel: str, contact_id: str) -> list[WordsInRevision]:
        """Where a contact's words stand in revisions of assistants."""
        return self.make(calls.words_in_revisions(channel, contact_id))

    def memory(self, channel: str, contact_id: str) -> JsonObject:
        """What is remembered of a contact."""
        return self.make(calls.memory(channel, contact_id))

    def set_memory(self, channel: str, contact_id: str, facts: JsonObject) -> JsonObject:
        """Remember this of a contact, in place of all that was; an empty dict forgets it all."""
        return self.make(calls.set_memory(channel, contact_id, facts))

    def place_call(self, channel: str, call: CallIn) -> CallDetail:
        """Place a call from a phone channel."""
        return self.make(calls.place_call(channel, call))

    def calls(self, channel: str, cursor: str = "", limit: int = 50) -> Page[CallOut]:
        """A channel's calls, the latest first."""
        return self.make(calls.calls(channel, cursor, limit))

    def call(self, call_id: str) -> CallDetail:
        """A call with what happened in it."""
        return self.make(calls.call(call_id))

    def end_call(self, call_id: str) -> CallDetail:
        """Hang up, or do not place the call after all."""
        return self.make(calls.end_call(call_id))

    def retry_turn(self, turn_id: str, revision: str = "") -> TurnDetail:
        """Work a failed turn again; with a revision, one that is not finished, too."""
        return self.make(calls.retry_turn(turn_id, revision))

    def fail_turn(self, turn_id: str, reason: str = "") -> TurnDetail:
        """End a turn that is not finished; nothing more is sent for it."""
        return self.make(calls.fail_turn(turn_id, reason))

    def decide_delivery(self, turn_id: str, delivery_id: str, decision: str) -> TurnDetail:
        """Settle a delivery in doubt: resend, sent or drop."""
        return self.make(calls.decide_delivery(turn_id, delivery_id, decision))

    def rewrite_delivery(
        self, turn_id: str, delivery_id: str, text: str, choices: Sequence[Choice | str] = ()
    ) -> TurnDetail:
        """Put other words, and choices, in the place of a text that went out."""
        return self.make(calls.rewrite_delivery(turn_id, delivery_id, text, list(choices)))

    def keys(self) -> list[KeyOut]:
        """All keys, without their values."""
        return self.make(calls.keys())

    def create_key(
        self, name: str, scopes: list[Scope], characters_a_day: int = 0, seconds_a_day: int = 0
    ) -> NewKey:
        """Create a key; its value is shown only now. What it may have spoken and converted in a day
        can be limited; 0 is without limit."""
        return self.make(calls.create_key(name, scopes, characters_a_day, seconds_a_day))

    def revoke_key(self, key_id: str) -> KeyOut:
        """Revoke a key."""
        return self.make(calls.revoke_key(key_id))

    def delete_secret(self, name: str) -> None:
        """Forget a secret."""
        return self.make(calls.delete_secret(name))

    def subscriptions(self) -> list[SubscriptionOut]:
        """All subscriptions."""
        return self.make(calls.subscriptions())

    def subscribe(self, address: str, secret: str, types: list[str]) -> SubscriptionOut:
        """Tell an address of events from now on."""
        return self.make(calls.subscribe(address, secret, types))

    def unsubscribe(self, subscription_id: str) -> None:
        """Tell an address no more."""
        return self.make(calls.unsubscribe(subscription_id))

    def retry_undelivered(self, subscription_id: str) -> SubscriptionOut:
        """Try again all events that could not be told."""
        return self.make(calls.retry_undelivered(subscription_id))

    def contract(self, channel: str, last: bool = False) -> str:
        """All that a program needs to know to ask an HTTP channel, as one text (Markdown); with
        its last exchange, if that is wanted."""
        return (self.make(calls.contract(channel, last))).text

    def ask(
        self, channel: str, text: str = "", contact: str = "", spoken_reply: bool | None = None,
        files: Sequence[FileIn] = (),
    ) -> AskOut:  # fmt: skip
        """Ask an HTTP channel in writing.

        Args:
            files: pictures and files that go along, for an assistant that takes them.
        """
        return self.make(calls.ask(channel, text, contact, spoken_reply, files))

    def ask_aloud(self, channel: str, sound: bytes, contact: str = "") -> AskOut:
        """Ask an HTTP channel with sound, in any container."""
        return self.make(calls.ask_aloud(channel, sound, contact))
