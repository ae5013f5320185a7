"""Markdown as it is written where a network reads another markup, or none."""

from __future__ import annotations

import html
import re
from collections.abc import Callable
from dataclasses import dataclass

KINDS = ("none", "markdown", "html")
"""What a network may read. With `html`, a few inline elements (HTML Living Standard §4.5)."""

_SPANS = re.compile(
    r"(?P<fence>```)[^\n`]{0,40}\n(?P<block>.{0,8000}?)```"
    r"|(?P<tick>`{1,3})(?P<code>[^`\n]{1,1000})(?P=tick)"
    r"|!?\[(?P<label>[^\[\]\n]{0,500})\]\((?P<address>(?:[^()\s]|\([^()\s]{0,200}\)){0,1000})\)"
    r"|(?P<bare>https?://[^\s<>\")\]]{1,2000})"
    r"|(?P<strong>\*\*|__)(?=\S)(?P<bold>[^\n]{1,500}?)(?<=\S)(?P=strong)"
    r"|(?P<strike>~~)(?=\S)(?P<struck>[^\n]{1,500}?)(?<=\S)~~"
    r"|(?<!\w)(?P<mark>[*_])(?=\S)(?P<slanted>[^*_\n]{1,500}?)(?<=\S)(?P=mark)(?!\w)"
    r"|\\(?P<plain>[\\`*_{}\[\]()#+\-.!|>~])",
    re.DOTALL,
)
"""A span is not longer than is usual: looking for its end is bounded."""

_HEADING = re.compile(r"^\s{0,3}#{1,6}\s+(.+?)\s*#*\s*$", re.MULTILINE)

LINKED = re.compile(r"https?://[^\s<>\")\]]{1,2000}")


@dataclass(frozen=True)
class Markup:
    """How a network writes each kind of span; each is given the words that are in it.

    Attributes:
        link: is given the words and the address.
        plain: makes words that hold no span safe.
    """

    bold: Callable[[str], str]
    slanted: Callable[[str], str]
    struck: Callable[[str], str]
    code: Callable[[str], str]
    block: Callable[[str], str]
    link: Callable[[str, str], str]
    plain: Callable[[str], str]


def _same(words: str) -> str:
    return words


def _beside(words: str, address: str) -> str:
    """Words with their address behind them, unless it is what they say."""
    bare = address.partition("://")[2].rstrip("/")
    return address if words.strip() in ("", address, bare) else f"{words} ({address})"


def _anchor(words: str, address: str) -> str:
    if not re.match(r"(?:https?|mailto|tel|geo):", address):
        return words
    return f'<a href="{html.escape(address)}">{words or html.escape(address)}</a>'


def _in(name: str) -> Callable[[str], str]:
    return lambda words: f"<{name}>{words}</{name}>"


NONE = Markup(_same, _same, _same, _same, _same, _beside, _same)
HTML = Markup(
    _in("b"), _in("i"), _in("s"), _in("code"), _in("pre"), _anchor,
    lambda words: html.escape(words, quote=False),
)  # fmt: skip


def written_in(text: str, markup: str) -> str:
    """A text with Markdown in it as a network reads it.

    Args:
        markup: one of `KINDS`; `markdown` is left as it is.
    """
    if markup == "markdown":
        return text
    how = HTML if markup == "html" else NONE
    return _spans(_HEADING.sub(r"**\1**", text), how)


def _spans(text: str, how: Markup) -> str:
    found, at = list[str](), 0
    for span in _SPANS.finditer(text):
        found += [how.plain(text[at : span.start()]), _written(span, how)]
        at = span.end()
    return "".join([*found, how.plain(text[at:])])


def _written(span: re.Match[str], how: Markup) -> str:
    if span["fence"]:
        return how.block(how.plain(span["block"]))
    if span["code"] is not None:
        return how.code(how.plain(span["code"]))
    if span["address"] is not None:
        return how.link(_spans(span["label"], how), span["address"])
    for name, kind in (("bold", how.bold), ("struck", how.struck), ("slanted", how.slanted)):
        if span[name] is not None:
            return kind(_spans(span[name], how))
    return how.plain(span["bare"] or span["plain"])


def links_in(text: str) -> list[str]:
    """The web addresses in a text, each once, in their order."""
    return list(dict.fromkeys(each.rstrip(".,;:!?") for each in LINKED.findall(text)))
