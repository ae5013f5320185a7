"""Digest authentication (RFC 7616, RFC 8760): challenges and what answers them, MD5 and SHA-256."""

from __future__ import annotations

import hashlib
import hmac
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal

from fond_echo.core.telephony.errors import MalformedValue

ALGORITHMS: dict[str, Callable[[bytes], str]] = {
    "SHA-256": lambda data: hashlib.sha256(data).hexdigest(),
    "MD5": lambda data: hashlib.md5(data, usedforsecurity=False).hexdigest(),
}
"""The stronger first."""

NONCE_SECONDS = 120.0

_PAIR = re.compile(r'([A-Za-z0-9\-_*]+)\s*=\s*("(?:[^"\\]|\\.)*"|[^\s,"]+)\s*(?:,\s*|$)')


@dataclass(frozen=True)
class Challenge:
    """What a server asks for. `qop` holds "auth" where that is offered."""

    realm: str
    nonce: str
    algorithm: str = "MD5"
    qop: str = ""
    opaque: str = ""
    stale: bool = False

    def __str__(self) -> str:
        reported = [f'realm="{self.realm}"', f'nonce="{self.nonce}"', f"algorithm={self.algorithm}"]
        if self.qop:
            reported.append(f'qop="{self.qop}"')
        if self.opaque:
            reported.append(f'opaque="{self.opaque}"')
        if self.stale:
            reported.append("stale=true")
        return "Digest " + ", ".join(reported)


def _pairs(text: str) -> dict[str, str]:
    """The pairs of a Digest field, quotes taken off. Raises MalformedValue."""
    scheme, _, rest = text.strip().partition(" ")
    if scheme.lower() != "digest":
        raise MalformedValue(f"{scheme[:30]!r} is not Digest")
    found: dict[str, str] = {}
    at = 0
    rest = rest.strip()
    while at < len(rest):
        match = _PAIR.match(rest, at)
        if not match:
            raise MalformedValue(f"{rest[at : at + 40]!r} cannot be read")
        value = match[2]
        if value.startswith('"'):
            value = re.sub(r"\\(.)", r"\1", value[1:-1])
        found[match[1].lower()] = value
        at = match.end()
    return found


def read_challenge(text: str) -> Challenge:
    """Raises MalformedValue for text that is not a challenge, or has an unknown algorithm."""
    pairs = _pairs(text)
    if "realm" not in pairs or "nonce" not in pairs:
        raise MalformedValue("a challenge needs realm and nonce")
    algorithm = pairs.get("algorithm", "MD5").upper()
    if algorithm not in ALGORITHMS:
        raise MalformedValue(f"the algorithm {algorithm[:30]!r} is not known")
    offered = [each.strip() for each in pairs.get("qop", "").split(",")]
    return Challenge(
        pairs["realm"],
        pairs["nonce"],
        algorithm,
        "auth" if "auth" in offered else "",
        pairs.get("opaque", ""),
        pairs.get("stale", "").lower() == "true",
    )


def strongest(texts: Sequence[str]) -> Challenge | None:
    """The challenge with the best algorithm among those that can be read."""
    found: list[Challenge] = []
    for text in texts:
        try:
            found.append(read_challenge(text))
        except MalformedValue:
            continue
    order = list(ALGORITHMS)
    return min(found, key=lambda each: order.index(each.algorithm), default=None)


def _response(
    algorithm: str, secret: tuple[str, str, str], method: str, uri: str, middle: Sequence[str]
) -> str:
    digest = ALGORITHMS[algorithm]
    first = digest(":".join(secret).encode())
    second = digest(f"{method}:{uri}".encode())
    return digest(":".join((first, *middle, second)).encode())


def credentials(
    challenge: Challenge,
    user: str,
    password: str,
    method: str,
    uri: str,
    *,
    cnonce: str,
    count: int = 1,
) -> str:
    """The value of Authorization or Proxy-Authorization that answers a challenge.

    Args:
        count: how many requests were answered with this nonce, this one included.
    """
    secret = user, challenge.realm, password
    reported = [
        f'username="{user}"', f'realm="{challenge.realm}"', f'nonce="{challenge.nonce}"',
        f'uri="{uri}"', f"algorithm={challenge.algorithm}",
    ]  # fmt: skip
    middle: tuple[str, ...] = (challenge.nonce,)
    if challenge.qop:
        middle = challenge.nonce, f"{count:08x}", cnonce, challenge.qop
        reported += [f"qop={challenge.qop}", f"nc={count:08x}", f'cnonce="{cnonce}"']
    response = _response(challenge.algorithm, secret, method, uri, middle)
    reported.append(f'response="{response}"')
    if challenge.opaque:
        reported.append(f'opaque="{challenge.opaque}"')
    return "Digest " + ", ".join(reported)


Verdict = Literal["right", "stale", "wrong"]


class Challenger:
    """Challenges those who ask, and judges their answers. A nonce carries its own time and seal,
    so nothing is kept for those who never answer.

    Args:
        realm: told to who asks.
        key: secret, for sealing nonces.
    """

    def __init__(self, realm: str, key: bytes) -> None:
        self.realm = realm
        self._key = key
        self._counts: dict[str, int] = {}

    def challenges(self, now: float, *, stale: bool = False) -> list[Challenge]:
        """One for each algorithm, the stronger first."""
        stamp = f"{int(now * 1000):x}"
        nonce = f"{stamp}.{self._seal(stamp)}"
        return [Challenge(self.realm, nonce, name, "auth", "", stale) for name in ALGORITHMS]

    def _seal(self, stamp: str) -> str:
        return hmac.new(self._key, stamp.encode(), hashlib.sha256).hexdigest()[:32]

    def user_of(self, text: str) -> str:
        """Who an answer says it is from; "" where it cannot be read."""
        try:
            return _pairs(text).get("username", "")
        except MalformedValue:
            return ""

    def judge(self, text: str, method: str, password: str | None, now: float) -> Verdict:
        """Whether an answer is right. A counter that does not rise is an answer seen before.

        Args:
            password: of the user that `user_of` gave; None where there is no such user.
        """
        try:
            pairs = _pairs(text)
        except MalformedValue:
            return "wrong"
        nonce = pairs.get("nonce", "")
        stamp, _, seal = nonce.partition(".")
        algorithm = pairs.get("algorithm", "MD5").upper()
        if not hmac.compare_digest(seal, self._seal(stamp)) or algorithm not in ALGORITHMS:
            return "wrong"
        qop = pairs.get("qop", "")
        middle: tuple[str, ...] = (nonce,)
        if qop:
            middle = nonce, pairs.get("nc", ""), pairs.get("cnonce", ""), qop
        secret = pairs.get("username", ""), self.realm, password or ""
        expected = _response(algorithm, secret, method, pairs.get("uri", ""), middle)
        same = hmac.compare_digest(expected, pairs.get("response", ""))
        if not same or password is None or pairs.get("realm") != self.realm:
            return "wrong"
        if now - int(stamp, 16) / 1000 > NONCE_SECONDS:
            return "stale"
        return "right" if self._rises(nonce, pairs.get("nc", "")) else "stale"

    def _rises(self, nonce: str, counter: str) -> bool:
        if not counter:
            return True
        try:
            count = int(counter, 16)
        except ValueError:
            return False
        if count <= self._counts.get(nonce, 0):
            return False
        if len(self._counts) > 10_000:
            self._counts.clear()
        self._counts[nonce] = count
        return True
