"""A phone channel at its registrars: how each registration stands, and who we are for whom."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from fond_echo.core.telephony.sip.calls import Account, where
from fond_echo.core.telephony.sip.registration import Registrar, Registration
from fond_echo.core.telephony.sip.transaction_layer import Output, TransactionLayer
from fond_echo.core.telephony.sip.values import parse_address, parse_uri
from fond_echo.documents.phone import PhoneConnector
from fond_echo.phone.placing import hop


class Registrations:
    """A channel's registrations.

    Args:
        passwords: by the names of secrets.
    """

    def __init__(
        self, connector: PhoneConnector, passwords: Mapping[str, str],
        transactions: TransactionLayer,
    ) -> None:  # fmt: skip
        self._all = [
            Registration(
                Registrar(
                    each.registrar, parse_uri(each.uri), parse_address(f"<{each.aor}>"),
                    Account(each.user, passwords.get(each.password.secret, "")), each.expires,
                    hop(each.proxy) if each.proxy else None,
                ),
                transactions,
            )
            for each in connector.registrars
        ]  # fmt: skip

    def __iter__(self) -> Iterator[Registration]:
        return iter(self._all)

    @property
    def facts(self) -> list[dict[str, Any]]:
        """How each stands."""
        return [
            {"registrar": each.registrar.name, "state": each.state, "reason": each.reason}
            for each in self._all
        ]

    @property
    def standing(self) -> tuple[str, str]:
        """The channel's state, and the reason for it."""
        failed = [each for each in self._all if each.state == "failed"]
        if failed:
            reported = "; ".join(f"{each.registrar.name}: {each.reason}" for each in failed)
            return "not-connected", reported
        waiting = [each.registrar.name for each in self._all if each.state != "registered"]
        if waiting:
            return "waiting", f"registering with {', '.join(waiting)}"
        return "connected" if self._all else "open", ""

    def account(self, registrar: str) -> Account | None:
        """Who we are at a registrar, by its name in the description."""
        found = (e.registrar.account for e in self._all if e.registrar.name == registrar)
        return next(found, None)

    def account_at(self, host: str) -> Account | None:
        """Who we are for what a host asks, where it is a registrar or its proxy."""
        for each in self._all:
            hops = [where(each.registrar.uri)]
            if each.registrar.hop is not None:
                hops.append(each.registrar.hop)
            if any(place.host == host for place in hops):
                return each.registrar.account
        return None

    @property
    def due(self) -> list[float]:
        """When each is to be seen to."""
        return [each.due for each in self._all if each.due is not None]

    def wake(self, now: float) -> Output:
        """What is to be sent now."""
        output = Output()
        for each in self._all:
            output.join(each.wake(now))
        return output

    def leave(self, now: float) -> Output:
        """Say goodbye wherever we are known."""
        output = Output()
        for each in self._all:
            if each.state == "registered":
                output.join(each.leave(now))
        return output


def places(connector: PhoneConnector) -> Iterator[str]:
    """The hosts that the channel's description names: registrars, their proxies, the trunk."""
    for each in connector.registrars:
        yield where(parse_uri(each.uri)).host
        if each.proxy:
            yield hop(each.proxy).host
    if connector.outbound is not None and connector.outbound.via:
        yield hop(connector.outbound.via).host
