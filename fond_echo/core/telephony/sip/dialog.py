"""Dialogs (RFC 3261 §12): what two sides of a call keep of one another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from fond_echo.core.telephony.errors import MalformedValue
from fond_echo.core.telephony.sip.message import Fields, Request, Response
from fond_echo.core.telephony.sip.values import Address, Uri, Via, parse_address


@dataclass(frozen=True)
class Dialog:
    """One side's view of a call.

    Attributes:
        local, remote: From and To of our requests, with their tags.
        target: where requests go (the other side's Contact).
        route: the proxies on the way, the nearest first.
        local_cseq: the number of our last request; `remote_cseq` of the other side's, or −1.
    """

    call_id: str
    local: Address
    remote: Address
    target: Uri
    route: tuple[Address, ...] = ()
    local_cseq: int = 0
    remote_cseq: int = -1

    @property
    def key(self) -> tuple[str, str, str]:
        return self.call_id, self.local.tag, self.remote.tag

    def accepts(self, request: Request) -> Dialog | None:
        """The dialog after a request of the other side; None where it is older than the last
        (§12.2.2). A new Contact is where requests go from now on."""
        number, method = request.sequence
        if method not in ("ACK", "CANCEL") and number <= self.remote_cseq:
            return None
        contacts = request.contacts if method in ("INVITE", "UPDATE") else []
        target = contacts[0].uri if contacts and contacts[0].uri.spoken else self.target
        return replace(self, remote_cseq=max(number, self.remote_cseq), target=target)

    def request(
        self,
        method: str,
        via: Via,
        *,
        number: int | None = None,
        fields: Sequence[tuple[str, str]] = (),
        body: bytes = b"",
    ) -> tuple[Request, Dialog]:
        """A request within the dialog, and the dialog after it (§12.2.1.1).

        Args:
            number: of an ACK: that of its INVITE.
        """
        count = self.local_cseq + 1 if number is None else number
        uri, route = self.target, [str(each) for each in self.route]
        if self.route and self.route[0].uri.parameter("lr") is None:
            # A strict router: it wants itself in the request's line.
            uri, route = self.route[0].uri, [*route[1:], f"<{self.target}>"]
        pairs = [("via", str(via)), ("max-forwards", "70"), *(("route", each) for each in route)]
        pairs += [("from", str(self.local)), ("to", str(self.remote)), ("call-id", self.call_id)]
        pairs += [("cseq", f"{count} {method}"), *fields]
        after = self if number is not None else replace(self, local_cseq=count)
        return Request(Fields(tuple(pairs)), body, method, uri), after


def as_uas(invite: Request, tag: str) -> Dialog:
    """The dialog of a call that came in (§12.1.1). Raises MalformedValue without a Contact that
    can be reached."""
    if not invite.contacts:
        raise MalformedValue("an INVITE needs a Contact")
    _check(invite)
    number, _ = invite.sequence
    route = tuple(parse_address(each) for each in invite.fields.all("record-route"))
    target = invite.contacts[0].uri
    return Dialog(
        invite.call_id, invite.target.with_tag(tag), invite.origin, target, route, 0, number
    )


def as_uac(invite: Request, response: Response) -> Dialog:
    """The dialog of a call that we placed, by an answer that makes one (§12.1.2). Raises
    MalformedValue without a Contact that can be reached."""
    if not response.contacts:
        raise MalformedValue("the answer to an INVITE needs a Contact")
    _check(response)
    number, _ = invite.sequence
    route = tuple(parse_address(each) for each in reversed(response.fields.all("record-route")))
    target = response.contacts[0].uri
    return Dialog(invite.call_id, invite.origin, response.target, target, route, number)


def _check(message: Request | Response) -> None:
    """Whether requests can be sent where a message wants them."""
    routes = [parse_address(each) for each in message.fields.all("record-route")]
    for uri in (message.contacts[0].uri, *(each.uri for each in routes)):
        if not uri.spoken:
            raise MalformedValue(f"{uri} cannot be reached: only sip: over UDP or TCP is spoken")
