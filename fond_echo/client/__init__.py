"""Talk to a Fond Echo installation from Python.

from fond_echo.client import FondEcho

with FondEcho("http://127.0.0.1:8770", key="fe-…") as echo:
    for turn in echo.turns().items:
        print(turn.text, "→", turn.route)
"""

from fond_echo.client.asynchronous.client import AsyncFondEcho
from fond_echo.client.errors import Refused, Unreachable
from fond_echo.client.listening import Partial, Utterance
from fond_echo.client.synchronous.client import FondEcho

__all__ = ["AsyncFondEcho", "FondEcho", "Partial", "Refused", "Unreachable", "Utterance"]
