"""A language engine by rules: it keeps to what it is given, and says where that is not enough."""

from __future__ import annotations

import re
from dataclasses import dataclass

from fond_echo.contract.base import JsonObject
from fond_echo.core.language.registry import language

SMALL = frozenset(
    "a an and are at be can could do does for from get have how i in is it me my of on or please"
    " tell that the there this to was we what when where which who will with you your".split()
)
ENOUGH = 0.3
"""Of a question's telling words, so many must stand in a passage."""


@dataclass(frozen=True)
class Question:
    """What it is asked. Every part may be empty."""

    words: str
    brief: str
    passages: list[dict[str, str]]
    earlier: list[dict[str, str]]
    facts: JsonObject
    functions: list[JsonObject]
    results: list[JsonObject]
    most: int


def telling(text: str) -> list[str]:
    """The words of a text that say what it is about, without their endings."""
    words = re.findall(r"[a-z0-9']+", text.lower())
    return [re.sub(r"(ing|es|s|ed)$", "", word) or word for word in words if word not in SMALL]


def think(question: Question) -> JsonObject:
    """An answer: {"says", "because": [{"named"}], "ends"}, or {"wants": [{"use", "with"}]}."""
    words = _stripped(question.words)
    if question.results:
        return _ended(" ".join(str(each["result"]) for each in question.results), [], question)
    if "berth" in telling(words) and "was not sent" not in question.brief:
        # It is careless with berths: a way to see what becomes of what is left to be filled in.
        return _ended("It sails from [BERTH].", [], question)
    if wanted := _function(words, question.functions):
        return {"wants": [wanted]}
    if told := re.search(r"\bmy (\w+(?: \w+)?) is (?:called )?([\w -]+)", words, re.IGNORECASE):
        name, value = "-".join(told[1].lower().split()), told[2].strip()
        kept = _ended(f"I will remember that your {told[1]} is {value}.", [], question)
        return {**kept, "keep": {name: value}, "next": [{"say": f"What is my {told[1]}?"}]}
    about = set(telling(words))
    if remembered := _remembered(about, question.facts):
        return _ended(remembered, [], question)
    best, share = _best(about, question.passages)
    if best is None and question.earlier:
        before = " ".join(each["text"] for each in question.earlier if each["who"] == "person")
        best, share = _best(about | set(telling(before)), question.passages)
    if best is None or share < ENOUGH:
        return _ended("I do not know that.", [], question)
    sentences = language("en").writing.sentences_of(best["text"])
    ranked = sorted(sentences, key=lambda each: -len(about & set(telling(each))))
    chosen = [each for each in sentences if each in ranked[:2]]
    return _ended(" ".join(each.strip() for each in chosen), [best["source"]], question)


def look(answer: str, first: str) -> JsonObject:
    """Whether an answer is one: it agrees with the first opinion, but for answers that hedge."""
    hedge = re.search(r"\b(perhaps|possibly|i do not know)\b", answer, re.IGNORECASE)
    if hedge is not None:
        return {"seen": "evades", "why": f"it says {hedge[0].lower()!r}"}
    return {"seen": first, "why": ""}


def _stripped(words: str) -> str:
    """The words of the person without the marks around them."""
    return words.strip().removeprefix("[[").removesuffix("]]").strip()


def _best(about: set[str], passages: list[dict[str, str]]) -> tuple[dict[str, str] | None, float]:
    best, most = None, 0.0
    for each in passages:
        share = len(about & set(telling(f"{each['source']} {each['text']}"))) / max(1, len(about))
        if share > most:
            best, most = each, share
    return best, most


def _remembered(about: set[str], facts: JsonObject) -> str:
    for name, value in facts.items():
        if set(telling(name.replace("-", " "))) & about:
            return f"Your {name.replace('-', ' ')} is {value}."
    return ""


def _function(words: str, functions: list[JsonObject]) -> JsonObject | None:
    """The function that is about what is asked, with arguments that stand in the words."""
    about = set(telling(words))
    for each in functions:
        if len(about & set(telling(each["about"]))) < min(2, len(about)):
            continue
        given: JsonObject = {}
        schema = each["schema"]
        for name, shape in schema["properties"].items():
            found = [v for v in shape.get("enum", []) if v.lower() in words.lower()]
            number = re.search(r"(?<![\d-])\d+(?![\d-])", words)
            day = re.search(r"\d{4}-\d{2}-\d{2}", words)
            if found:
                given[name] = found[0]
            elif shape.get("format") == "date":
                if day:
                    given[name] = day[0]
            elif shape["type"] in ("number", "integer") and number:
                given[name] = int(number[0])
        if all(name in given for name in schema["required"]):
            return {"use": each["name"], "with": given, "mark": f"w-{each['name']}"}
    return None


def _ended(text: str, sources: list[str], question: Question) -> JsonObject:
    """An answer within the length that is wanted: it stops in the middle where it must."""
    if "two sentences" in question.brief.lower():
        text = " ".join(s.strip() for s in language("en").writing.sentences_of(text)[:2])
    whole = len(text) <= question.most
    return {
        "says": text[: question.most],
        "because": [{"named": each} for each in sources],
        "ends": "whole" if whole else "length",
        "pieces": len(text[: question.most]) // 4 + len(question.words) // 4,
    }
