"""Every call of the API, as what is sent and how the answer is read; the two clients make them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

from fond_echo.client.call import Call, nothing, shape_of
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
    SecretIn,
    SecretOut,
    SubscriptionOut,
    TurnDetail,
    TurnOut,
    UnreadableOut,
    WordsIn,
)
from fond_echo.contract.asking import AskIn, AskOut, Contract, FileIn
from fond_echo.contract.base import JsonObject
from fond_echo.contract.call import CallDetail, CallIn, CallOut
from fond_echo.contract.contacts import (
    ContactOut,
    TesterIn,
    WordsInRevision,
)
from fond_echo.contract.drafting import ConnectorDraft, ConnectorExamples
from fond_echo.contract.renditions import ConversionOut, DeliverAs, RenditionIn, RenditionOut
from fond_echo.contract.reply import Choice
from fond_echo.contract.saying import SayIn, SayOut, ScheduledOut
from fond_echo.contract.speech import ListenIn
from fond_echo.contract.turn import Heard


def me() -> Call[Me]:
    return Call("GET", "/api/me", shape_of(Me))


def draft_connector(given: ConnectorExamples) -> Call[ConnectorDraft]:
    body = given.model_dump(mode="json")
    return Call("POST", "/api/connectors/drafts", shape_of(ConnectorDraft), body)


def say(channel: str, given: SayIn) -> Call[SayOut]:
    body = given.model_dump(mode="json")
    return Call("POST", f"/api/channels/{channel}/messages", shape_of(SayOut), body)


def scheduled_messages(channel: str) -> Call[list[ScheduledOut]]:
    return Call("GET", f"/api/channels/{channel}/messages", shape_of(list[ScheduledOut]))


def cancel_messages(channel: str, key: str) -> Call[None]:
    return Call("DELETE", f"/api/channels/{channel}/messages/{key}", nothing)


def set_opted_out(channel: str, contact_id: str, opted_out: bool) -> Call[ContactOut]:
    path = f"/api/channels/{channel}/contacts/{contact_id}/opted-out"
    return Call("PUT", path, shape_of(ContactOut), {"opted_out": opted_out})


def say_to(conversation: str, text: str) -> Call[TurnDetail]:
    body = WordsIn(text=text).model_dump()
    return Call("POST", f"/api/conversations/{conversation}/messages", shape_of(TurnDetail), body)


def load_conversation(channel: str, given: LoadIn) -> Call[ConversationOut]:
    body = given.model_dump(mode="json")
    return Call("POST", f"/api/channels/{channel}/conversations", shape_of(ConversationOut), body)


def set_answering(conversation: str, by: Literal["assistant", "operator"]) -> Call[AnsweringIn]:
    body = AnsweringIn(by=by).model_dump()
    return Call("PUT", f"/api/conversations/{conversation}/answering", shape_of(AnsweringIn), body)


def channels() -> Call[list[ChannelOut]]:
    return Call("GET", "/api/channels", shape_of(list[ChannelOut]))


def put_channel(name: str, channel: ChannelIn) -> Call[ChannelOut]:
    return Call("PUT", f"/api/channels/{name}", shape_of(ChannelOut), channel.model_dump())


def pause_channel(name: str) -> Call[ChannelOut]:
    return Call("POST", f"/api/channels/{name}/pause", shape_of(ChannelOut))


def unreadable(name: str) -> Call[list[UnreadableOut]]:
    return Call("GET", f"/api/channels/{name}/unreadable", shape_of(list[UnreadableOut]))


def connect_channel(name: str) -> Call[ChannelOut]:
    return Call("POST", f"/api/channels/{name}/connect", shape_of(ChannelOut))


def secrets() -> Call[list[SecretOut]]:
    return Call("GET", "/api/secrets", shape_of(list[SecretOut]))


def put_secret(name: str, value: str, hosts: list[str]) -> Call[SecretOut]:
    body = SecretIn(value=value, hosts=hosts).model_dump()
    return Call("PUT", f"/api/secrets/{name}", shape_of(SecretOut), body)


def conversations(cursor: str = "", limit: int = 50) -> Call[Page[ConversationOut]]:
    query: dict[str, str | int] = {"cursor": cursor, "limit": limit}
    return Call("GET", "/api/conversations", shape_of(Page[ConversationOut]), query=query)


def conversation(conversation_id: str) -> Call[ConversationOut]:
    return Call("GET", f"/api/conversations/{conversation_id}", shape_of(ConversationOut))


def turns(
    conversation: str = "", channel: str = "", state: str = "", cursor: str = "", limit: int = 50,
    text: str = "", verdict: str = "", draft: bool | None = None,
) -> Call[Page[TurnOut]]:  # fmt: skip
    query: dict[str, str | int] = {
        "conversation": conversation,
        "channel": channel,
        "state": state,
        "cursor": cursor,
        "limit": limit,
        "text": text,
        **({"verdict": verdict} if verdict else {}),
        **({} if draft is None else {"draft": str(draft).lower()}),
    }
    return Call("GET", "/api/turns", shape_of(Page[TurnOut]), query=query)


def turn(turn_id: str) -> Call[TurnDetail]:
    return Call("GET", f"/api/turns/{turn_id}", shape_of(TurnDetail))


def sound(clip_id: str) -> Call[bytes]:
    return Call("GET", f"/api/clips/{clip_id}/sound", lambda response: response.content)


def transcribe(sound: bytes, requested: ListenIn) -> Call[Heard]:
    given = requested.model_dump(exclude_defaults=True)
    return Call("POST", "/api/speech/transcripts", shape_of(Heard), content=sound, query=given)


def rendition(given: RenditionIn) -> Call[RenditionOut]:
    body = given.model_dump(mode="json", exclude_defaults=True)
    return Call("POST", "/api/speech/renditions", shape_of(RenditionOut), body)


def rendered(given: RenditionIn) -> Call[bytes]:
    body = given.model_dump(mode="json", exclude_defaults=True) | {"deliver_as": "bytes"}
    return Call("POST", "/api/speech/renditions", lambda response: response.content, body)


def conversion(
    sound: bytes, deliver_as: DeliverAs, loudness: float | None, trim: bool
) -> Call[Any]:
    query: dict[str, str | int] = {"deliver_as": deliver_as, "trim": int(trim)}
    if loudness is not None:
        query["loudness"] = str(loudness)
    read = shape_of(ConversionOut) if deliver_as != "bytes" else lambda response: response.content
    return Call("POST", "/api/clips/conversions", read, content=sound, query=query)


def channel(name: str) -> Call[ChannelOut]:
    return Call("GET", f"/api/channels/{name}", shape_of(ChannelOut))


def rename_channel(name: str, new: str) -> Call[ChannelOut]:
    return Call("POST", f"/api/channels/{name}/name", shape_of(ChannelOut), {"name": new})


def delete_channel(name: str) -> Call[None]:
    return Call("DELETE", f"/api/channels/{name}", nothing)


def contacts(channel: str, standing: str = "", cursor: str = "") -> Call[Page[ContactOut]]:
    query: dict[str, str | int] = {"standing": standing, "cursor": cursor}
    return Call("GET", f"/api/channels/{channel}/contacts", shape_of(Page[ContactOut]), query=query)


def set_standing(channel: str, contact_id: str, standing: str) -> Call[ContactOut]:
    path = f"/api/channels/{channel}/contacts/{contact_id}/standing"
    return Call("PUT", path, shape_of(ContactOut), {"standing": standing})


def testers(channel: str) -> Call[list[ContactOut]]:
    return Call("GET", f"/api/channels/{channel}/testers", shape_of(list[ContactOut]))


def add_tester(channel: str, contact: str, name: str = "") -> Call[ContactOut]:
    body = TesterIn(contact=contact, name=name).model_dump()
    return Call("POST", f"/api/channels/{channel}/testers", shape_of(ContactOut), body)


def remove_tester(channel: str, contact_id: str) -> Call[ContactOut]:
    return Call("DELETE", f"/api/channels/{channel}/testers/{contact_id}", shape_of(ContactOut))


def erase_contact(channel: str, contact_id: str, confirm: bool | None = None) -> Call[ContactOut]:
    query: dict[str, str | int] = {} if confirm is None else {"confirm": str(confirm).lower()}
    path = f"/api/channels/{channel}/contacts/{contact_id}"
    return Call("DELETE", path, shape_of(ContactOut), query=query)


def words_in_revisions(channel: str, contact_id: str) -> Call[list[WordsInRevision]]:
    path = f"/api/channels/{channel}/contacts/{contact_id}/words-in-revisions"
    return Call("GET", path, shape_of(list[WordsInRevision]))


def memory(channel: str, contact_id: str) -> Call[JsonObject]:
    return Call(
        "GET", f"/api/channels/{channel}/contacts/{contact_id}/memory", shape_of(JsonObject)
    )


def set_memory(channel: str, contact_id: str, facts: JsonObject) -> Call[JsonObject]:
    path = f"/api/channels/{channel}/contacts/{contact_id}/memory"
    return Call("PUT", path, shape_of(JsonObject), facts)


def place_call(channel: str, call: CallIn) -> Call[CallDetail]:
    body = call.model_dump(mode="json")
    return Call("POST", f"/api/channels/{channel}/calls", shape_of(CallDetail), body)


def calls(channel: str, cursor: str = "", limit: int = 50) -> Call[Page[CallOut]]:
    query: dict[str, str | int] = {"cursor": cursor, "limit": limit}
    return Call("GET", f"/api/channels/{channel}/calls", shape_of(Page[CallOut]), query=query)


def call(call_id: str) -> Call[CallDetail]:
    return Call("GET", f"/api/calls/{call_id}", shape_of(CallDetail))


def end_call(call_id: str) -> Call[CallDetail]:
    return Call("POST", f"/api/calls/{call_id}/end", shape_of(CallDetail))


def retry_turn(turn_id: str, revision: str = "") -> Call[TurnDetail]:
    body = {"revision": revision}
    return Call("POST", f"/api/turns/{turn_id}/retry", shape_of(TurnDetail), body)


def fail_turn(turn_id: str, reason: str = "") -> Call[TurnDetail]:
    return Call("POST", f"/api/turns/{turn_id}/fail", shape_of(TurnDetail), {"reason": reason})


def decide_delivery(turn_id: str, delivery_id: str, decision: str) -> Call[TurnDetail]:
    path = f"/api/turns/{turn_id}/deliveries/{delivery_id}/decision"
    return Call("POST", path, shape_of(TurnDetail), {"decision": decision})


def rewrite_delivery(
    turn_id: str, delivery_id: str, text: str, choices: list[Choice | str]
) -> Call[TurnDetail]:
    path = f"/api/turns/{turn_id}/deliveries/{delivery_id}/text"
    offered = [each if isinstance(each, str) else each.model_dump() for each in choices]
    return Call("PUT", path, shape_of(TurnDetail), {"text": text, "choices": offered})


def keys() -> Call[list[KeyOut]]:
    return Call("GET", "/api/keys", shape_of(list[KeyOut]))


def create_key(
    name: str, scopes: list[Scope], characters_a_day: int = 0, seconds_a_day: int = 0
) -> Call[NewKey]:
    body = {
        "name": name, "scopes": scopes, "characters_a_day": characters_a_day,
        "seconds_a_day": seconds_a_day,
    }  # fmt: skip
    return Call("POST", "/api/keys", shape_of(NewKey), body)


def revoke_key(key_id: str) -> Call[KeyOut]:
    return Call("DELETE", f"/api/keys/{key_id}", shape_of(KeyOut))


def delete_secret(name: str) -> Call[None]:
    return Call("DELETE", f"/api/secrets/{name}", nothing)


def subscriptions() -> Call[list[SubscriptionOut]]:
    return Call("GET", "/api/subscriptions", shape_of(list[SubscriptionOut]))


def subscribe(address: str, secret: str, types: list[str]) -> Call[SubscriptionOut]:
    body = {"address": address, "secret": secret, "types": types}
    return Call("POST", "/api/subscriptions", shape_of(SubscriptionOut), body)


def unsubscribe(subscription_id: str) -> Call[None]:
    return Call("DELETE", f"/api/subscriptions/{subscription_id}", nothing)


def retry_undelivered(subscription_id: str) -> Call[SubscriptionOut]:
    path = f"/api/subscriptions/{subscription_id}/undelivered/retry"
    return Call("POST", path, shape_of(SubscriptionOut))


def contract(channel: str, last: bool = False) -> Call[Contract]:
    query: dict[str, str | int] = {"last": "true"} if last else {}
    return Call("GET", f"/api/channels/{channel}/contract", shape_of(Contract), query=query)


def ask(
    channel: str, text: str = "", contact: str = "", spoken_reply: bool | None = None,
    files: Sequence[FileIn] = (),
) -> Call[AskOut]:  # fmt: skip
    given = AskIn(text=text, contact=contact, spoken_reply=spoken_reply, files=list(files))
    body = given.model_dump()
    return Call("POST", f"/ask/{channel}", shape_of(AskOut), body)


def ask_aloud(channel: str, sound: bytes, contact: str = "") -> Call[AskOut]:
    query: dict[str, str | int] = {"contact": contact}
    return Call("POST", f"/ask/{channel}", shape_of(AskOut), query=query, content=sound)
