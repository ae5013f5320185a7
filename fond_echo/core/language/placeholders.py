"""What was left to be filled in: in an assistant's files, and in what an engine answers."""

from __future__ import annotations

import re

PLACEHOLDER = re.compile(
    r"\[[A-Z][A-Z0-9 _'-]{2,}\]"
    r"|<(?:your|the|insert|enter|name|address|number|date|time|company|email|phone)\b[^<>]{0,40}>"
    r"|\bINSERT\b.{0,60}?\bHERE\b"
    r"|\b(?i:your company|company name here|lorem ipsum)\b"
)
"""What stands in for words that somebody was to write, in files that people write. Tags of SSML and
HTML are none."""

LEFT_IN_PAGES = re.compile(r"\{\{(?:(?!\{\{|\}\}).)*\}\}|\bTODO\b|\bTBD\b|\bXXX\b")
"""What is left of a template, or of a draft, in a page that is searched."""

LEFT_BY_ENGINES = re.compile(
    r"\[(?!\[)[A-Z][A-Z0-9 _'/.-]*\](?!\()"
    r"|<[a-z][a-z _-]{1,30}>(?!.*</)"
    rf"|{LEFT_IN_PAGES.pattern}|\{{[a-z][a-z_ ]{{1,30}}\}}"
    r"|\$[A-Z][A-Z_]{2,}\b|_{3,}|\bX{3,}\b|\bXX+\.X+\b"
    r"|\bTBA\b|\bDD[ ./-]MM\b"
    r"|\bINSERT\b.{0,60}?\bHERE\b|\bLorem ipsum\b",
)
"""As an engine leaves them in an answer: nobody reads it before it goes out."""
