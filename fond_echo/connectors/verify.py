"""Whether a webhook comes from where it says."""

from __future__ import annotations

import base64
import binascii
import hmac
from collections.abc import Mapping
from secrets import token_hex

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

from fond_echo.connectors.errors import Forged
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.templates import compile_template
from fond_echo.documents.connector import Verification


def check_webhook(
    how: Verification, secret: str, headers: Mapping[str, str], body: bytes, now: float
) -> None:
    """Check a webhook's proof and the time it was made.

    Args:
        secret: shared with the network; empty for Ed25519, which has a public key instead.
        headers: names in lower case.
        now: seconds since the epoch.

    Raises:
        Forged: and nothing else, whatever the request holds.
    """
    given = headers.get(how.header.lower(), "").strip()
    if not given:
        raise Forged(f"the header {how.header} is missing")
    if how.time is not None:
        _check_time(how, headers, now)
    if not given.startswith(how.prefix):
        raise Forged(f"the header {how.header} does not begin with {how.prefix!r}")
    given = given.removeprefix(how.prefix)
    if how.kind == "header":
        fits = hmac.compare_digest(given.encode(), secret.encode())
    elif how.kind == "ed25519":
        fits = _signed_by(how.public_key, given, _signed(how, headers, body))
    else:
        name = how.kind.removeprefix("hmac-")
        mac = hmac.digest(secret.encode(), _signed(how, headers, body), name)
        wanted = mac.hex() if how.encoding == "hex" else base64.b64encode(mac).decode()
        fits = hmac.compare_digest(wanted.encode(), given.encode())
    if not fits:
        raise Forged("the signature does not fit", remedy="check the shared secret")


def _signed(how: Verification, headers: Mapping[str, str], body: bytes) -> bytes:
    """What was signed. The body goes in as bytes at the end: it need not be text."""
    marker = f"\ue000{token_hex(8)}\ue000"
    try:
        text = compile_template(how.over).render({"body": marker, "headers": dict(headers)})
    except FondEchoError as error:
        raise Forged(f"what is signed cannot be put together: {error}") from error
    return body.join(part.encode("utf-8", "replace") for part in str(text).split(marker))


def _signed_by(public_key: str, signature: str, data: bytes) -> bool:
    try:
        key = Ed25519PublicKey.from_public_bytes(_bytes(public_key))
        key.verify(_bytes(signature), data)
    except (InvalidSignature, ValueError, binascii.Error):
        return False
    return True


def _bytes(text: str) -> bytes:
    """Bytes written in hex or base64."""
    try:
        return bytes.fromhex(text)
    except ValueError:
        return base64.b64decode(text, validate=True)


def _check_time(how: Verification, headers: Mapping[str, str], now: float) -> None:
    text = headers.get((how.time or "").lower(), "")
    try:
        signed_at = float(text)
    except ValueError:
        raise Forged(f"the header {how.time} holds no time in seconds") from None
    if not abs(now - signed_at) <= how.tolerance:
        raise Forged(
            f"signed {now - signed_at:.0f} s ago", remedy=f"{how.tolerance:g} s are tolerated"
        )
