"""Signatures by the Standard Webhooks scheme: version 1 (HMAC-SHA256), version 1a (Ed25519)."""

from __future__ import annotations

import base64
import binascii
import hmac
from collections.abc import Mapping, Sequence
from hashlib import sha256

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

from fond_echo.contract.errors import BadSignature

PREFIX, PRIVATE, PUBLIC = "whsec_", "whsk_", "whpk_"
TOLERANCE_SECONDS = 300


def key_bytes(secret: str) -> bytes:
    """The key of a secret: base64 behind `whsec_`, else the text itself."""
    if not secret.startswith(PREFIX):
        return secret.encode()
    try:
        return base64.b64decode(secret.removeprefix(PREFIX), validate=True)
    except binascii.Error as error:
        raise BadSignature(f"the secret behind {PREFIX} is not base64") from error


def _decoded(text: str, prefix: str) -> bytes:
    """A key behind its prefix; a private key may carry its public half behind it."""
    try:
        return base64.b64decode(text.removeprefix(prefix), validate=True)[:32]
    except binascii.Error as error:
        raise BadSignature(f"the key behind {prefix} is not base64") from error


def signature(secret: str, message_id: str, timestamp: int, body: bytes) -> str:
    """One signature as it stands in the `webhook-signature` header: with Ed25519 where the secret
    is a private key (`whsk_`), else with HMAC."""
    signed = f"{message_id}.{timestamp}.".encode() + body
    if secret.startswith(PRIVATE):
        key = Ed25519PrivateKey.from_private_bytes(_decoded(secret, PRIVATE))
        return "v1a," + base64.b64encode(key.sign(signed)).decode()
    return "v1," + base64.b64encode(hmac.digest(key_bytes(secret), signed, sha256)).decode()


def _fits(secret: str, given: str, message_id: str, timestamp: int, body: bytes) -> bool:
    if not secret.startswith(PUBLIC):
        return hmac.compare_digest(given, signature(secret, message_id, timestamp, body))
    kind, _, value = given.partition(",")
    if kind != "v1a":
        return False
    signed = f"{message_id}.{timestamp}.".encode() + body
    key = Ed25519PublicKey.from_public_bytes(_decoded(secret, PUBLIC))
    try:
        key.verify(base64.b64decode(value), signed)
    except (InvalidSignature, binascii.Error):
        return False
    return True


def signed_headers(
    secrets: str | Sequence[str], message_id: str, timestamp: int, body: bytes
) -> dict[str, str]:
    """The three headers that go with a signed body; with several secrets it is signed with each."""
    live = [secrets] if isinstance(secrets, str) else secrets
    signatures = [signature(secret, message_id, timestamp, body) for secret in live]
    return {
        "webhook-id": message_id,
        "webhook-timestamp": str(timestamp),
        "webhook-signature": " ".join(signatures),
    }


def verify(
    secrets: Sequence[str],
    headers: Mapping[str, str],
    body: bytes,
    now: float,
    *,
    tolerance: float = TOLERANCE_SECONDS,
) -> str:
    """Check a signed request against any of the live secrets, and give its id. A public key
    (`whpk_`) stands for itself.

    Args:
        headers: names in lower case.
        now: seconds since the epoch.

    Raises:
        BadSignature: a header is missing, the time is off, or no signature fits.
    """
    try:
        message_id = headers["webhook-id"]
        timestamp = int(headers["webhook-timestamp"])
        given = headers["webhook-signature"].split()
    except KeyError as error:
        raise BadSignature(f"the header {error.args[0]} is missing") from error
    except ValueError as error:
        raise BadSignature("webhook-timestamp is not a number of seconds") from error
    if abs(now - timestamp) > tolerance:
        raise BadSignature(
            f"signed {now - timestamp:.0f} s ago",
            remedy=f"set the clock; {tolerance:.0f} s are tolerated",
        )
    if not any(_fits(s, each, message_id, timestamp, body) for each in given for s in secrets):
        raise BadSignature("no signature fits the body", remedy="check the shared secret")
    return message_id
