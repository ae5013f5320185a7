"""A picture maker: sea, sky and what a text names of boats, islands, rain, sun and night."""

from __future__ import annotations

import zlib

import av
import numpy as np
import numpy.typing as npt

WIDTH, HEIGHT, HORIZON = 320, 200, 120

Picture = npt.NDArray[np.uint8]


def draw(scene: str) -> bytes:
    """A PNG of what a text names."""
    words = scene.lower()
    rng = np.random.default_rng(zlib.crc32(scene.encode()))
    picture = np.zeros((HEIGHT, WIDTH, 3), np.uint8)
    night = "night" in words
    picture[:HORIZON] = (24, 28, 52) if night else (196, 214, 224)
    picture[HORIZON:] = (18, 40, 60) if night else (70, 110, 128)
    y, x = np.mgrid[:HEIGHT, :WIDTH]
    if "sun" in words or night:
        disc = (x - 250) ** 2 + (y - 45) ** 2 < 18**2
        picture[disc] = (226, 226, 210) if night else (240, 196, 84)
    if "island" in words or any(name in words for name in ("ossel", "pell", "brannick", "marrow")):
        hill = (y < HORIZON) & (y > HORIZON - 46 * np.exp(-(((x - 80) / 42.0) ** 2)))
        picture[hill] = (64, 92, 70)
    for boat in range(2 if "boats" in words else 1 if "boat" in words else 0):
        _boat(picture, 150 + 70 * boat + int(rng.integers(20)), 140 + 14 * boat)
    if "rain" in words or "gale" in words:
        for column, row in zip(rng.integers(0, WIDTH, 260), rng.integers(0, HEIGHT - 8, 260),
                               strict=True):  # fmt: skip
            picture[row : row + 7, column] = (150, 166, 178)
    return _png(picture)


def _boat(picture: Picture, left: int, top: int) -> None:
    for row in range(10):
        picture[top + row, left + row : left + 44 - row] = (140, 52, 40)
    for row in range(34):
        picture[top - 2 - row, left + 22 : left + 22 + (34 - row) // 2] = (240, 236, 224)


def _png(picture: Picture) -> bytes:
    codec = av.CodecContext.create("png", "w")
    codec.width, codec.height, codec.pix_fmt = WIDTH, HEIGHT, "rgb24"
    packets = codec.encode(av.VideoFrame.from_ndarray(picture, format="rgb24"))
    packets += codec.encode(None)
    return b"".join(bytes(packet) for packet in packets)
