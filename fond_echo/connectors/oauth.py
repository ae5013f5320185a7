"""OAuth 2.0 client credentials (RFC 6749 §4.4): a token got with a secret, and kept while good."""

from __future__ import annotations

import time
from dataclasses import dataclass

import httpx

from fond_echo.connectors.addresses import address_of
from fond_echo.connectors.errors import NoAnswer, Refused, Unreachable, WrongAnswer
from fond_echo.connectors.secrets import Secrets
from fond_echo.core.language.templates import compile_template
from fond_echo.documents.connector import ClientCredentials

EARLY_SECONDS = 30.0


@dataclass
class _Token:
    value: str
    until: float


class TokenSource:
    """Gives the token for a description's steps."""

    def __init__(
        self,
        client: httpx.AsyncClient,
        credentials: ClientCredentials,
        values: dict[str, str],
    ) -> None:
        self._client = client
        self._credentials = credentials
        self._values = values
        self._token: _Token | None = None

    async def token(self, vault: Secrets) -> str:
        """A token that is good for a while. Raises ConnectorError."""
        if self._token is None or time.monotonic() > self._token.until - EARLY_SECONDS:
            self._token = await self._ask(vault)
        return self._token.value

    def forget(self) -> None:
        """Get a new token next time: the service did not like this one."""
        self._token = None

    async def _ask(self, vault: Secrets) -> _Token:
        said = self._credentials
        own = frozenset(self._values)
        url = compile_template(said.token_url).address(self._values, own)
        host, port = address_of(url)
        secret = vault[said.client_secret.secret]
        vault.check_hosts(host, port)
        form = {
            "grant_type": "client_credentials",
            "client_id": str(compile_template(said.client_id).render(self._values)),
            "client_secret": secret,
        }
        if said.scope:
            form["scope"] = said.scope
        try:
            answer = await self._client.post(url, data=form)
        except httpx.ConnectError as error:
            raise Unreachable(f"no connection: {error}", where=url) from error
        except httpx.HTTPError as error:
            raise NoAnswer(f"no token: {error or type(error).__name__}", where=url) from error
        if answer.status_code != 200:
            what = f"the token was refused with {answer.status_code}"
            raise Refused(what, status=answer.status_code, where=url)
        try:
            reported = answer.json()
            return _Token(
                str(reported["access_token"]),
                time.monotonic() + float(reported.get("expires_in", 3_600)),
            )
        except (ValueError, KeyError, TypeError) as error:
            raise WrongAnswer("the answer holds no access_token", where=url) from error
