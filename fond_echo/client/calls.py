"""Every call of the API, as what is sent and how the answer is read; the two clients make them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Generic, Literal, TypeVar

import httpx
from pydantic import TypeAdapter, ValidationError

from fond_echo.contract.api import (
    AnsweringIn,
    AskIn,
    AskOut,
    ChannelIn,
    ChannelOut,
    ContactOut,
    ConversationOut,
    KeyOut,
    Me,
    NewKey,
    Page,
    Problem,
    Scope,
    SecretIn,
    SecretOut,
    SubscriptionOut,
    TurnDetail,
    TurnOut,
    WordsIn,
)
from fond_echo.contract.assistants import (
    AssistantFiles,
    AssistantOut,
    Checked,
    DraftIn,
    DraftOut,
    PastOut,
    PublishIn,
    RevisionOut,
    Tried,
    TryIn,
)
from fond_echo.contract.call import CallDetail, CallIn, CallOut
from fond_echo.contract.engine import EngineIn, EngineOut, EngineTrialIn, EngineTrialOut
from fond_echo.contract.renditions import ConversionOut, Giving, RenditionIn, RenditionOut
from fond_echo.contract.replay import (
    CasesOut,
    GapOut,
    KeptCase,
    ReplayIn,
    ReplayOut,
    ReplaysIn,
    ReplaysOut,
)
from fond_echo.contract.reply import Choice
from fond_echo.contract.speech import ListenIn
from fond_echo.contract.turn import Heard
from fond_echo.core.errors import FondEchoError

Answer = TypeVar("Answer")


class Unreachable(FondEchoError):
    """The service does not answer."""

    code = "service-unreachable"


class Refused(FondEchoError):
    """The service answered with a problem; `problem` holds it, with its errors."""

    code = "refused"

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem.detail or problem.title, remedy=problem.remedy)
        self.problem = problem


@dataclass(frozen=True)
class Call(Generic[Answer]):
    """One call: a request, and the reading of its answer."""

    method: str
    path: str
    read: Callable[[httpx.Response], Answer]
    json: Any = None
    content: bytes | None = None
    query: Mapping[str, str | int | Sequence[str]] = field(default_factory=dict)

    def finish(self, response: httpx.Response) -> Answer:
        """Raises Refused for a problem."""
        if response.status_code >= 400:
            raise Refused(_problem(response))
        return self.read(response)


def _problem(response: httpx.Response) -> Problem:
    try:
        return Problem.model_validate_json(response.content)
    except ValidationError:
        return Problem(
            type="about:blank",
            title=f"The service answered {response.status_code}",
            status=response.status_code,
        )


def _shape(of: type[Answer]) -> Callable[[httpx.Response], Answer]:
    adapter: TypeAdapter[Answer] = TypeAdapter(of)
    return lambda response: adapter.validate_json(response.content)


def _nothing(response: httpx.Response) -> None:
    """The reading of an answer without a body."""


def unreachable(address: str, error: httpx.HTTPError) -> Unreachable:
    """What a connection that failed is told as."""
    reason = str(error) or type(error).__name__
    return Unreachable(
        f"no answer from {address}: {reason}", remedy="is it running? fond-echo serve"
    )


def me() -> Call[Me]:
    return Call("GET", "/api/me", _shape(Me))


def assistants() -> Call[list[AssistantOut]]:
    return Call("GET", "/api/assistants", _shape(list[AssistantOut]))


def put_assistant(name: str, files: Mapping[str, str], onto: str = "") -> Call[AssistantOut]:
    body = DraftIn(files=dict(files), onto=onto).model_dump()
    return Call("PUT", f"/api/assistants/{name}/draft", _shape(AssistantOut), body)


def publish_assistant(name: str, given: PublishIn) -> Call[AssistantOut]:
    body = given.model_dump()
    return Call("POST", f"/api/assistants/{name}/publish", _shape(AssistantOut), body)


def assistant_history(name: str) -> Call[list[PastOut]]:
    return Call("GET", f"/api/assistants/{name}/history", _shape(list[PastOut]))


def draft(name: str) -> Call[DraftOut]:
    return Call("GET", f"/api/assistants/{name}/draft", _shape(DraftOut))


def replay_turn(turn_id: str, given: ReplayIn) -> Call[ReplayOut]:
    body = given.model_dump(mode="json")
    return Call("POST", f"/api/turns/{turn_id}/replays", _shape(ReplayOut), body)


def replay_turns(name: str, given: ReplaysIn) -> Call[ReplaysOut]:
    body = given.model_dump(mode="json")
    return Call("POST", f"/api/assistants/{name}/replays", _shape(ReplaysOut), body)


def run_cases(name: str, given: ReplayIn) -> Call[CasesOut]:
    body = given.model_dump(mode="json")
    return Call("POST", f"/api/assistants/{name}/cases/runs", _shape(CasesOut), body)


def gaps(name: str, last: int) -> Call[list[GapOut]]:
    path = f"/api/assistants/{name}/gaps"
    return Call("GET", path, _shape(list[GapOut]), query={"last": str(last)})


def turn_bundle(turn_id: str) -> Call[bytes]:
    return Call("GET", f"/api/turns/{turn_id}/bundle", lambda response: response.content)


def turn_as_case(turn_id: str, name: str) -> Call[KeptCase]:
    return Call("GET", f"/api/turns/{turn_id}/case", _shape(KeptCase), query={"name": name})


def check_assistant(files: Mapping[str, str]) -> Call[Checked]:
    body = AssistantFiles(files=dict(files)).model_dump()
    return Call("POST", "/api/assistants/check", _shape(Checked), body)


def try_assistant(
    name: str,
    text: str,
    state: Mapping[str, Any] | None = None,
    files: Mapping[str, str] | None = None,
) -> Call[Tried]:
    given = TryIn(text=text, state=dict(state or {}), files=dict(files) if files else None)
    return Call("POST", f"/api/assistants/{name}/try", _shape(Tried), given.model_dump())


def revision(name: str, revision: str) -> Call[AssistantFiles]:
    return Call("GET", f"/api/assistants/{name}/revisions/{revision}", _shape(AssistantFiles))


def revisions(name: str) -> Call[list[RevisionOut]]:
    return Call("GET", f"/api/assistants/{name}/revisions", _shape(list[RevisionOut]))


def say_to(conversation: str, text: str) -> Call[TurnDetail]:
    body = WordsIn(text=text).model_dump()
    return Call("POST", f"/api/conversations/{conversation}/messages", _shape(TurnDetail), body)


def set_answering(conversation: str, by: Literal["assistant", "person"]) -> Call[AnsweringIn]:
    body = AnsweringIn(by=by).model_dump()
    return Call("PUT", f"/api/conversations/{conversation}/answering", _shape(AnsweringIn), body)


def channels() -> Call[list[ChannelOut]]:
    return Call("GET", "/api/channels", _shape(list[ChannelOut]))


def put_channel(name: str, channel: ChannelIn) -> Call[ChannelOut]:
    return Call("PUT", f"/api/channels/{name}", _shape(ChannelOut), channel.model_dump())


def connect_channel(name: str) -> Call[ChannelOut]:
    return Call("POST", f"/api/channels/{name}/connect", _shape(ChannelOut))


def engines() -> Call[list[EngineOut]]:
    return Call("GET", "/api/engines", _shape(list[EngineOut]))


def engine(name: str) -> Call[EngineOut]:
    return Call("GET", f"/api/engines/{name}", _shape(EngineOut))


def put_engine(name: str, given: EngineIn) -> Call[EngineOut]:
    return Call("PUT", f"/api/engines/{name}", _shape(EngineOut), given.model_dump())


def delete_engine(name: str) -> Call[None]:
    return Call("DELETE", f"/api/engines/{name}", _nothing)


def try_engine(name: str, given: EngineTrialIn) -> Call[EngineTrialOut]:
    return Call("POST", f"/api/engines/{name}/trials", _shape(EngineTrialOut), given.model_dump())


def secrets() -> Call[list[SecretOut]]:
    return Call("GET", "/api/secrets", _shape(list[SecretOut]))


def put_secret(name: str, value: str, hosts: list[str]) -> Call[SecretOut]:
    body = SecretIn(value=value, hosts=hosts).model_dump()
    return Call("PUT", f"/api/secrets/{name}", _shape(SecretOut), body)


def conversations(after: str = "", limit: int = 50) -> Call[Page[ConversationOut]]:
    query: dict[str, str | int] = {"after": after, "limit": limit}
    return Call("GET", "/api/conversations", _shape(Page[ConversationOut]), query=query)


def turns(
    conversation: str = "", channel: str = "", state: str = "", after: str = "", limit: int = 50,
    words: str = "",
) -> Call[Page[TurnOut]]:  # fmt: skip
    query: dict[str, str | int] = {
        "conversation": conversation,
        "channel": channel,
        "state": state,
        "after": after,
        "limit": limit,
        "words": words,
    }
    return Call("GET", "/api/turns", _shape(Page[TurnOut]), query=query)


def turn(turn_id: str) -> Call[TurnDetail]:
    return Call("GET", f"/api/turns/{turn_id}", _shape(TurnDetail))


def sound(clip_id: str) -> Call[bytes]:
    return Call("GET", f"/api/clips/{clip_id}/sound", lambda response: response.content)


def transcribe(sound: bytes, requested: ListenIn) -> Call[Heard]:
    given = requested.model_dump(exclude_defaults=True)
    return Call("POST", "/api/speech/transcripts", _shape(Heard), content=sound, query=given)


def rendition(given: RenditionIn) -> Call[RenditionOut]:
    body = given.model_dump(mode="json", exclude_defaults=True)
    return Call("POST", "/api/speech/renditions", _shape(RenditionOut), body)


def rendered(given: RenditionIn) -> Call[bytes]:
    body = given.model_dump(mode="json", exclude_defaults=True) | {"give": "bytes"}
    return Call("POST", "/api/speech/renditions", lambda response: response.content, body)


def conversion(sound: bytes, give: Giving, loudness: float | None, trim: bool) -> Call[Any]:
    query: dict[str, str | int] = {"give": give, "trim": int(trim)}
    if loudness is not None:
        query["loudness"] = str(loudness)
    read = _shape(ConversionOut) if give != "bytes" else lambda response: response.content
    return Call("POST", "/api/clips/conversions", read, content=sound, query=query)


def channel(name: str) -> Call[ChannelOut]:
    return Call("GET", f"/api/channels/{name}", _shape(ChannelOut))


def rename_channel(name: str, new: str) -> Call[ChannelOut]:
    return Call("POST", f"/api/channels/{name}/name", _shape(ChannelOut), {"name": new})


def delete_channel(name: str) -> Call[None]:
    return Call("DELETE", f"/api/channels/{name}", _nothing)


def contacts(channel: str, standing: str = "", after: str = "") -> Call[Page[ContactOut]]:
    query: dict[str, str | int] = {"standing": standing, "after": after}
    return Call("GET", f"/api/channels/{channel}/contacts", _shape(Page[ContactOut]), query=query)


def set_standing(channel: str, contact_id: str, standing: str) -> Call[ContactOut]:
    path = f"/api/channels/{channel}/contacts/{contact_id}/standing"
    return Call("PUT", path, _shape(ContactOut), {"standing": standing})


def erase_contact(channel: str, contact_id: str) -> Call[ContactOut]:
    return Call("DELETE", f"/api/channels/{channel}/contacts/{contact_id}", _shape(ContactOut))


def memory(channel: str, contact_id: str) -> Call[dict[str, Any]]:
    return Call(
        "GET", f"/api/channels/{channel}/contacts/{contact_id}/memory", _shape(dict[str, Any])
    )


def set_memory(channel: str, contact_id: str, facts: dict[str, Any]) -> Call[dict[str, Any]]:
    path = f"/api/channels/{channel}/contacts/{contact_id}/memory"
    return Call("PUT", path, _shape(dict[str, Any]), facts)


def place_call(channel: str, call: CallIn) -> Call[CallDetail]:
    body = call.model_dump(mode="json")
    return Call("POST", f"/api/channels/{channel}/calls", _shape(CallDetail), body)


def calls(channel: str, after: str = "", limit: int = 50) -> Call[Page[CallOut]]:
    query: dict[str, str | int] = {"after": after, "limit": limit}
    return Call("GET", f"/api/channels/{channel}/calls", _shape(Page[CallOut]), query=query)


def call(call_id: str) -> Call[CallDetail]:
    return Call("GET", f"/api/calls/{call_id}", _shape(CallDetail))


def end_call(call_id: str) -> Call[CallDetail]:
    return Call("POST", f"/api/calls/{call_id}/end", _shape(CallDetail))


def retry_turn(turn_id: str) -> Call[TurnDetail]:
    return Call("POST", f"/api/turns/{turn_id}/retry", _shape(TurnDetail))


def decide_delivery(turn_id: str, delivery_id: str, decision: str) -> Call[TurnDetail]:
    path = f"/api/turns/{turn_id}/deliveries/{delivery_id}/decision"
    return Call("POST", path, _shape(TurnDetail), {"decision": decision})


def rewrite_delivery(
    turn_id: str, delivery_id: str, text: str, choices: list[Choice | str]
) -> Call[TurnDetail]:
    path = f"/api/turns/{turn_id}/deliveries/{delivery_id}/text"
    offered = [each if isinstance(each, str) else each.model_dump() for each in choices]
    return Call("PUT", path, _shape(TurnDetail), {"text": text, "choices": offered})


def keys() -> Call[list[KeyOut]]:
    return Call("GET", "/api/keys", _shape(list[KeyOut]))


def make_key(
    name: str, scopes: list[Scope], characters_a_day: int = 0, seconds_a_day: int = 0
) -> Call[NewKey]:
    body = {
        "name": name, "scopes": scopes, "characters_a_day": characters_a_day,
        "seconds_a_day": seconds_a_day,
    }  # fmt: skip
    return Call("POST", "/api/keys", _shape(NewKey), body)


def revoke_key(key_id: str) -> Call[KeyOut]:
    return Call("DELETE", f"/api/keys/{key_id}", _shape(KeyOut))


def delete_secret(name: str) -> Call[None]:
    return Call("DELETE", f"/api/secrets/{name}", _nothing)


def subscriptions() -> Call[list[SubscriptionOut]]:
    return Call("GET", "/api/subscriptions", _shape(list[SubscriptionOut]))


def subscribe(address: str, secret: str, types: list[str]) -> Call[SubscriptionOut]:
    body = {"address": address, "secret": secret, "types": types}
    return Call("POST", "/api/subscriptions", _shape(SubscriptionOut), body)


def unsubscribe(subscription_id: str) -> Call[None]:
    return Call("DELETE", f"/api/subscriptions/{subscription_id}", _nothing)


def send_again(subscription_id: str) -> Call[SubscriptionOut]:
    path = f"/api/subscriptions/{subscription_id}/dead-letters/resend"
    return Call("POST", path, _shape(SubscriptionOut))


def ask(channel: str, text: str = "", contact: str = "", aloud: bool | None = None) -> Call[AskOut]:
    body = AskIn(text=text, contact=contact, aloud=aloud).model_dump()
    return Call("POST", f"/ask/{channel}", _shape(AskOut), body)


def ask_aloud(channel: str, sound: bytes, contact: str = "") -> Call[AskOut]:
    query: dict[str, str | int] = {"contact": contact}
    return Call("POST", f"/ask/{channel}", _shape(AskOut), query=query, content=sound)
