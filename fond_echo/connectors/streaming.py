"""Answers that come in pieces: server-sent events (WHATWG HTML §9.2), or a JSON document a line."""

from __future__ import annotations

import codecs
import json
from collections.abc import AsyncIterator, Mapping
from dataclasses import dataclass, field
from typing import Protocol

import httpx

from fond_echo.connectors.answers import taken
from fond_echo.connectors.errors import WrongAnswer
from fond_echo.contract.base import JsonObject
from fond_echo.documents.steps import Stream

STREAMED = "streamed"
"""The fact that holds all pieces, one after the other."""


class Listener(Protocol):
    """Is handed each piece of text as it comes."""

    async def piece(self, text: str) -> None: ...


@dataclass
class StreamReader:
    """Makes facts of a streamed answer.

    Args:
        stream: how it is written down.
        take: what to keep of its documents: the last one that has a value counts.
        listener: hears of every piece.

    Attributes:
        status: with which the answer began.
    """

    stream: Stream
    take: Mapping[str, str]
    listener: Listener | None = None
    facts: JsonObject = field(default_factory=dict)
    pieces: list[str] = field(default_factory=list)
    documents: int = 0
    status: int = 0
    ended: bool = False

    async def read(self, lines: AsyncIterator[str], where: str) -> None:
        """Read to its end, or to the mark that ends it.

        Raises:
            WrongAnswer: a part is not JSON, or it stops before its mark.
        """
        data: list[str] = []
        async for line in lines:
            if self.stream.as_ != "events":
                await self._document(line.strip(), where)
            elif line.startswith("data:"):
                data.append(line[5:].removeprefix(" "))
            elif not line.strip():
                await self._document("\n".join(data), where)
                data.clear()
            if self.ended:
                return
        await self._document("\n".join(data), where)
        if self.stream.end and not self.ended:
            raise WrongAnswer(f"the stream stops before {self.stream.end!r}", where=where)

    async def _document(self, text: str, where: str) -> None:
        if not text:
            return
        if self.stream.end and text == self.stream.end:
            self.ended = True
            return
        try:
            document = json.loads(text)
        except (ValueError, RecursionError) as error:
            raise WrongAnswer("a part of the stream is not JSON", where=where) from error
        self.documents += 1
        for name, path in self.take.items():
            if (value := taken(document, path)) is not None:
                self.facts[name] = value
        piece = taken(document, self.stream.piece)
        if isinstance(piece, str) and piece:
            self.pieces.append(piece)
            if self.listener is not None:
                await self.listener.piece(piece)

    def taken(self, where: str) -> JsonObject:
        """The facts, with all pieces as `streamed`.

        Raises:
            WrongAnswer: a document with what was to be taken never came.
        """
        missing = [path for name, path in self.take.items() if name not in self.facts]
        if missing:
            raise WrongAnswer(f"nothing at {', '.join(missing)} in the stream", where=where)
        return {**self.facts, STREAMED: "".join(self.pieces)}


async def lines_of(response: httpx.Response, most: int, where: str) -> AsyncIterator[str]:
    """The lines of a streamed answer, no more of it than any answer may have."""
    decoder, text, count = codecs.getincrementaldecoder("utf-8")("replace"), "", 0
    async for chunk in response.aiter_bytes():
        count += len(chunk)
        if count > most:
            raise WrongAnswer(f"the answer is over {most:,} bytes", where=where)
        *lines, text = (text + decoder.decode(chunk)).split("\n")
        for line in lines:
            yield line.removesuffix("\r")
    if text:
        yield text
