"""G.711: sound at 8 kHz in bytes, by the mu law (PCMU) and the A law (PCMA)."""

from __future__ import annotations

from typing import Literal

import numpy as np
import numpy.typing as npt

from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.resample import at_rate

Law = Literal["PCMU", "PCMA"]
RATE = 8_000
SILENCE = {"PCMU": 0xFF, "PCMA": 0xD5}

_BIAS, _CLIP = 132, 32_635


def _mu_decoded() -> npt.NDArray[np.int16]:
    """ITU-T G.711 table 2: sign, three bits of exponent, four of mantissa, all inverted."""
    code = ~np.arange(256, dtype=np.int32) & 0xFF
    value = (((code & 0x0F) << 3) + _BIAS) << ((code >> 4) & 7)
    return np.where(code & 0x80, _BIAS - value, value - _BIAS).astype(np.int16)


def _a_decoded() -> npt.NDArray[np.int16]:
    """ITU-T G.711 table 1: even bits inverted."""
    code = np.arange(256, dtype=np.int32) ^ 0x55
    exponent, mantissa = (code >> 4) & 7, code & 0x0F
    low = (mantissa << 4) + 8
    value = np.where(exponent > 0, (low + 256) << np.maximum(exponent - 1, 0), low)
    return np.where(code & 0x80, value, -value).astype(np.int16)


def _encoded(decoded: npt.NDArray[np.int16], silence: int) -> npt.NDArray[np.uint8]:
    """For every sample, from -32768 up, the code whose value is nearest."""
    order = np.argsort(decoded, kind="stable")
    values = decoded[order].astype(np.int64)
    samples = np.arange(-32_768, 32_768)
    above = np.clip(np.searchsorted(values, samples), 1, len(values) - 1)
    nearer = np.where(samples - values[above - 1] <= values[above] - samples, above - 1, above)
    table = order[nearer].astype(np.uint8)
    table[32_768] = silence
    return table


_DECODED: dict[str, npt.NDArray[np.int16]] = {"PCMU": _mu_decoded(), "PCMA": _a_decoded()}
_ENCODED = {law: _encoded(table, SILENCE[law]) for law, table in _DECODED.items()}


def decoded(data: bytes, law: Law) -> npt.NDArray[np.int16]:
    """Samples of 16 bits for bytes of a law."""
    return _DECODED[law][np.frombuffer(data, np.uint8)]


def in_law(clip: Clip, law: Law) -> bytes:
    """A clip of any rate as bytes of a law, 8,000 a second."""
    samples = np.clip(at_rate(clip, RATE).samples * 32_767, -32_768, 32_767)
    return encoded(samples.astype(np.int16), law)


def encoded(samples: npt.NDArray[np.int16], law: Law) -> bytes:
    """Bytes of a law for samples of 16 bits."""
    return _ENCODED[law][samples.astype(np.int32) + 32_768].tobytes()
