"""Whom connections trust: the well-known certificates, read once. That takes sixty milliseconds,
which every HTTP client of its own would spend again, those too that never meet TLS."""

from __future__ import annotations

import ssl
from functools import lru_cache

import httpx


@lru_cache(maxsize=1)
def trusted() -> ssl.SSLContext:
    """The one context for all clients of this process; the environment names no other."""
    return httpx.create_ssl_context(trust_env=False)
