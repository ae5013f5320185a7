"""The files of a first assistant, made of what somebody says of it."""

from __future__ import annotations

import json
import re

from fond_echo.contract.assistants import StarterIn
from fond_echo.documents.assistant import MAIN_FILE
from fond_echo.documents.starter import title_of

NOT_KNOWN = "I do not know that. I can tell you about other things: just ask."


def greeting_of(title: str) -> str:
    """What an assistant says first, where nobody says otherwise."""
    return f"Hello, this is {title}. How can I help?"


def brief_of(title: str) -> str:
    """What an engine is told of an assistant, where nobody says otherwise."""
    return f"You are {title}. You answer in two or three sentences, and you are kind."


def guided_files(name: str, given: StarterIn) -> dict[str, str]:
    """An assistant's files, with comments for whoever opens them.

    Args:
        given: documents of `knowledge` lie in the folder documents, under their own names.
    """
    title = given.title or title_of(name)
    about = given.about or brief_of(title)
    lines = [
        f"# {title}. Every line may be changed; check it with: fond-echo assistant check FOLDER",
        f"assistant: {name}",
        "language: en",
        f"voice: {given.voice}                # fond-echo voice list",
        f"answers_in: {given.answers_in}               # same, text, voice, both",
        f"greeting: {_quoted(given.greeting or greeting_of(title))}",
    ]
    if given.engine:
        lines += [
            "", "# Who it is, as the engine that answers freely is told.",
            f"brief: {_quoted(about)}",
            f"engines: {{answer: [{given.engine}]}}",
        ]  # fmt: skip
    if given.questions:
        lines += ["", "# What is answered in the same words. More examples make a question surer.",
                  "routes:"]  # fmt: skip
    for number, each in enumerate(given.questions):
        route = _route_name(each.question, number, {_taken(line) for line in lines})
        lines += [
            f"  - route: {route}",
            "    examples:",
            f"      - {_quoted(each.question)}",
            f"    reply: {{text: {_quoted(each.answer)}}}",
        ]
    lines += ["", "# Everything else.", "fallback:", "  reply:"]
    documents = ['    documents: ["documents/*"]'] if given.knowledge else []
    if given.engine:
        lines += ["    free: true", *documents]
    elif documents:
        lines += [*documents, f"    unknown: {_quoted(NOT_KNOWN)}"]
    else:
        lines.append(f"    text: {_quoted(NOT_KNOWN)}")
    files = {MAIN_FILE: "\n".join(lines) + "\n"}
    return files | {f"documents/{name}": text for name, text in given.knowledge.items()}


def _quoted(text: str) -> str:
    """A text as YAML reads it on one line."""
    return json.dumps(" ".join(text.split()), ensure_ascii=False)


def _taken(line: str) -> str:
    return line.removeprefix("  - route: ")


def _route_name(question: str, number: int, taken: set[str]) -> str:
    """A route's name from the words of its question."""
    words = re.findall(r"[a-z0-9]+", question.lower())
    long = [word for word in words if len(word) > 3][:3] or words[:3]
    name = "-".join(long)[:40].strip("-")
    if not name or not name[0].isalpha() or name in taken:
        name = f"question-{number + 1}"
    return name
