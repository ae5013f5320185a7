"""What is kept of a call so that another process can end it: enough for a BYE."""

from __future__ import annotations

from typing import Any

from fond_echo.core.telephony.errors import MalformedValue
from fond_echo.core.telephony.sip.calls import Account, Call
from fond_echo.core.telephony.sip.dialog import Dialog
from fond_echo.core.telephony.sip.message import Response
from fond_echo.core.telephony.sip.transaction_layer import Output, TransactionLayer
from fond_echo.core.telephony.sip.values import Hop, parse_address, parse_uri

AHEAD = 100
"""Requests that the process that is gone may have sent since."""


def kept(call: Call, hop: Hop) -> dict[str, Any]:
    """A call's dialog, as JSON.

    Args:
        hop: where its requests go.
    """
    dialog = call.dialog
    assert dialog is not None
    return {
        "call_id": dialog.call_id,
        "local": str(dialog.local),
        "remote": str(dialog.remote),
        "target": str(dialog.target),
        "route": [str(each) for each in dialog.route],
        "sent": dialog.local_cseq,
        "hop": list(hop),
    }


def farewell(
    exchange: TransactionLayer, data: dict[str, Any], now: float, account: Account | None = None
) -> Output:
    """The BYE of a call that was kept. Raises MalformedValue for anything else.

    Args:
        account: answers a challenge.
    """
    try:
        route = tuple(parse_address(each) for each in data["route"])
        dialog = Dialog(
            data["call_id"], parse_address(data["local"]), parse_address(data["remote"]),
            parse_uri(data["target"]), route, int(data["sent"]) + AHEAD,
        )  # fmt: skip
        hop = Hop(*data["hop"])
    except (KeyError, TypeError, ValueError) as error:
        raise MalformedValue(f"no call was kept: {error}") from error
    return _bye(exchange, dialog, hop, now, account, ())


def _bye(
    exchange: TransactionLayer, dialog: Dialog, hop: Hop, now: float, account: Account | None,
    fields: tuple[tuple[str, str], ...],
) -> Output:  # fmt: skip
    bye, after = dialog.request("BYE", exchange.via(hop.transport), fields=fields)

    def reported(response: Response | None, at: float) -> Output:
        given = exchange.answering(bye, response, account)
        return Output() if given is None else _bye(exchange, after, hop, at, account, (given,))

    return exchange.ask(bye, hop, now, reported)
