"""Requests to copy: how a channel is asked from a shell, from Python and from JavaScript."""

from __future__ import annotations

import json
import shlex

from fond_echo.contract.api import Requests
from fond_echo.stages.turn import assistant_of
from fond_echo.store.records import Assistant, Channel, Revision
from fond_echo.web.access import MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.channels import ChannelName, address_of
from fond_echo.web.problems import NotThere
from fond_echo.web.service import TheService

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
async def requests_to_copy(channel: ChannelName, _: MayRead, service: TheService) -> Requests:
    """Requests that run as they are, once a key stands in the place of YOUR-KEY."""
    async with service.database.reading() as session:
        record = await session.get(Channel, channel)
        if record is None:
            raise NotThere(f"there is no channel {channel!r}")
        assistant = await session.get_one(Assistant, record.assistant)
        revision = await session.get_one(Revision, assistant.live)
    address = address_of(service, record)
    if record.kind != "http":
        return Requests(address=address)
    routes = assistant_of(revision.digest, revision.files).routes
    text = next((each.examples[0] for each in routes if each.examples), "Hello")
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
        f"curl -sS {shlex.quote(address + '?sound=bytes')} -H {bearer} \\\n"
        f"  --data-binary @question.ogg -H 'Content-Type: audio/ogg' -o answer.ogg\n"
    )
    return Requests(
        address=address,
        curl=curl,
        curl_with_sound=sound,
        python=PYTHON.format(**facts),
        javascript=JAVASCRIPT.format(**facts),
    )
