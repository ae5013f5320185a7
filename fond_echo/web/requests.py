"""Example requests: how a channel is asked from a shell, from Python and from JavaScript."""

from __future__ import annotations

import asyncio
import json
import shlex
from datetime import UTC, datetime

from fond_echo.connectors.logic import LogicCaller
from fond_echo.contract.asking import AskOut, Requests, SpokenAnswer
from fond_echo.contract.channel import Inbound
from fond_echo.contract.renditions import LINK_HOURS
from fond_echo.contract.reply import elements_of
from fond_echo.replays.trying import try_out
from fond_echo.signed_links import link_to
from fond_echo.store.records import Assistant, Channel, Revision
from fond_echo.turns.state import ConversationState
from fond_echo.turns.turn import assistant_of
from fond_echo.web.access import MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.channels import ChannelName, address_of
from fond_echo.web.errors import NotFound
from fond_echo.web.service import Service, TheService

router = CheckedRouter(prefix="/api/channels", tags=["channels"])

NO_KEY = "YOUR-KEY"

PYTHON = """\
import json
from urllib.request import Request, urlopen

request = Request(
    {address},
    data=json.dumps({{"text": {text}, "contact": "somebody"}}).encode(),
    headers={{"Authorization": "Bearer " + {key}, "Content-Type": "application/json"}},
)
answer = json.load(urlopen(request))
print(answer["answer"])
"""

JAVASCRIPT = """\
const answer = await fetch({address}, {{
  method: "POST",
  headers: {{ Authorization: "Bearer " + {key}, "Content-Type": "application/json" }},
  body: JSON.stringify({{ text: {text}, contact: "somebody" }}),
}});
console.log((await answer.json()).answer);
"""


@router.get("/{channel}/requests")
async def list_example_requests(channel: ChannelName, _: MayRead, service: TheService) -> Requests:
    """List requests to a channel that run as they are once YOUR-KEY is replaced by a key."""
    async with service.database.reading() as session:
        record = await session.get(Channel, channel)
        if record is None:
            raise NotFound(f"there is no channel {channel!r}")
        assistant = await session.get_one(Assistant, record.assistant)
        revision = await session.get_one(Revision, assistant.live)
    address = address_of(service, record)
    if record.kind != "http":
        return Requests(address=address)
    routes = assistant_of(revision.digest, revision.files).routes
    # One that is answered in words of its own asks nobody else.
    plain = sorted((each for each in routes if each.plain), key=lambda each: not each.reply.text)
    text = plain[0].plain[0] if plain else "Hello"
    facts = {
        "address": json.dumps(address),
        "text": json.dumps(text, ensure_ascii=False),
        "key": json.dumps(NO_KEY),
    }
    body = json.dumps({"text": text, "contact": "somebody"}, ensure_ascii=False)
    bearer = shlex.quote(f"Authorization: Bearer {NO_KEY}")
    kind = shlex.quote("Content-Type: application/json")
    quoted = shlex.quote(address)
    curl = f"curl -sS {quoted} -H {bearer} \\\n  -H {kind} -d {shlex.quote(body)}\n"
    sound = (
        f"curl -sS {shlex.quote(address + '?deliver_as=bytes')} -H {bearer} \\\n"
        f"  --data-binary @question.ogg -H 'Content-Type: audio/ogg' -o answer.ogg\n"
    )
    return Requests(
        address=address,
        curl=curl,
        curl_with_sound=sound,
        python=PYTHON.format(**facts),
        javascript=JAVASCRIPT.format(**facts),
        answer=(await _sample(service, revision, text)).model_dump(mode="json"),
        answer_schema=AskOut.model_json_schema(),
    )


async def _sample(service: Service, revision: Revision, text: str) -> AskOut:
    """What the assistant answers now; the ids, the sound and its link are made up."""
    assistant = await asyncio.to_thread(assistant_of, revision.digest, revision.files)
    said = Inbound(id="sample", conversation="somebody", contact="somebody", text=text)
    logic = LogicCaller(service.builder.client, await service.vault())
    now = datetime.now(UTC)
    found = await try_out(assistant, revision.digest, said, ConversationState(), now, logic, None)
    clip = "0192f0c0-7d3e-7c3a-9a55-3f2d6f0d8c11"
    link, _ = link_to(service.settings, clip, LINK_HOURS)
    return AskOut(
        turn="0192f0c0-7c11-7b0e-8d42-5b1f9a3e7d20", conversation="somebody", state="answered",
        text=text, heard=None, route=found.routed.route,
        answer="\n\n".join(each.written for each in found.replies),
        **elements_of(found.replies),
        sound=SpokenAnswer(
            clip=clip, media_type="audio/ogg", seconds=2.4, waveform=[0.1, 0.8, 0.3], link=link
        ),
        error=None,
    )  # fmt: skip
