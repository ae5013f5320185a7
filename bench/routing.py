"""How well routes are told apart, and how fast.

Wordings that are no examples are routed as they are, and with one word in ten replaced by a common
word that sounds like it, as a mishearing would: those of bench/data/held-out.txt, which nothing was
chosen by, and those of development.txt, which the matcher is fitted on. Then goodbyes: how many are
known, and how much else is taken for one. Then the time for
200 routes of 20 examples, for a grammar of 5,000 rules, and for a search in 2,000 pages.

    python -m bench.routing
"""

from __future__ import annotations

import random
import time
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator
from functools import lru_cache
from pathlib import Path

from wordfreq import top_n_list

from bench.report import options, percentile, show
from fond_echo.core.dialogue.documents import Documents
from fond_echo.core.dialogue.outcomes import DID_YOU_MEAN, FALLBACK
from fond_echo.core.dialogue.routing import Route, Router
from fond_echo.core.grammar.abnf import read_abnf
from fond_echo.core.grammar.check import check_grammar
from fond_echo.core.language.en.intents import intent_of
from fond_echo.core.language.en.spoken import spoken_tokens
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.language.sounding import sound_likeness
from fond_echo.demo.world import files_of
from fond_echo.documents.reading import read_assistant

DATA = Path(__file__).parent / "data"
LISTS = ("held-out", "development")


def wordings(name: str) -> Iterator[tuple[str, str, str]]:
    """(assistant, route, words) of a list."""
    assistant = route = ""
    for line in (DATA / f"{name}.txt").read_text().splitlines():
        if line.startswith("["):
            assistant, route = line.strip("[]").split()
        elif line and not line.startswith("#"):
            yield assistant, route, line


@lru_cache(maxsize=1)
def common_words() -> list[str]:
    return [word for word in top_n_list("en", 4_000) if word.isalpha() and len(word) > 1]


@lru_cache(maxsize=10_000)
def misheard(word: str) -> str:
    """The common word that sounds most like another."""
    others = (each for each in common_words() if each != word and each[0] != "x")
    return max(others, key=lambda each: sound_likeness(word, each, language_of().letters))


def with_mishearings(text: str, chance: random.Random) -> str:
    words = [misheard(w) if chance.random() < 0.1 else w for w in spoken_tokens(text)]
    return " ".join(words)


def told_apart(
    listed: str,
) -> tuple[list[tuple[str, str, int, str, str, str]], dict[str, Counter[str]]]:
    """A row for each condition, and who was taken for whom in the first."""
    routers = {}
    for name in ("harbour-desk", "gale-line"):
        assistant = read_assistant(files_of(name))
        routers[name] = assistant.router()
    rows, confusion = [], defaultdict(Counter[str])
    chance = random.Random(1)
    for condition in ("as written", "one word in ten misheard"):
        right = requested = total = false = off = 0
        for name, route, text in wordings(listed):
            if name == "-":
                continue
            heard = text if condition == "as written" else with_mishearings(text, chance)
            surely = condition == "as written"
            found = routers[name].decide(heard, heard_surely=surely).route
            if condition == "as written":
                confusion[route][found] += 1
            if route == "off":
                off += 1
                false += found not in (FALLBACK, DID_YOU_MEAN)
            else:
                total += 1
                right += found == route
                requested += found == DID_YOU_MEAN
        rows.append(
            (
                listed,
                condition,
                total,
                f"{right / total:.1%}",
                f"{requested / total:.1%}",
                f"{false / off:.1%} of {off}",
            )
        )
    return rows, confusion


def goodbyes(listed: str) -> tuple[str, int, str, int, str, str]:
    """A row: goodbyes, how many of them are known; other sayings, how many are taken for one; and
    what was mistaken."""
    meant = known = others = false = 0
    wrong = []
    for _, route, text in wordings(listed):
        found = intent_of(spoken_tokens(text)) == "goodbye"
        if route == "goodbye":
            meant, known = meant + 1, known + found
        else:
            others, false = others + 1, false + found
        if found != (route == "goodbye"):
            wrong.append(text)
    shares = f"{known / meant:.1%}", f"{false / others:.1%}"
    return listed, meant, shares[0], others, shares[1], "; ".join(wrong)


def timed(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return 1000 * (time.perf_counter() - begun)


def large_router(texts: list[str]) -> Router:
    """200 routes of 20 examples, made of the words of all texts."""
    chance = random.Random(2)
    mine = {word for text in texts for word in spoken_tokens(text)}
    words = sorted(mine | set(common_words()[:600]))

    def example() -> str:
        return " ".join(chance.sample(words, chance.randint(3, 8)))

    return Router([Route(f"route-{n}", tuple(example() for _ in range(20))) for n in range(200)])


def large_pages() -> Documents:
    """2,000 pages of three paragraphs."""
    chance = random.Random(3)
    words = common_words()

    def paragraph() -> str:
        return " ".join(chance.choices(words, k=60)).capitalize() + "."

    return Documents({
        f"book/page-{n}.md": f"# {' '.join(chance.sample(words, 3))}\n\n"
        + "\n\n".join(paragraph() for _ in range(3))
        for n in range(2_000)
    })  # fmt: skip


def main() -> None:
    chosen = options(__doc__)
    rows, confusion = told_apart(LISTS[0])
    rows += told_apart(LISTS[1])[0]
    columns = ("list", "wordings", "number", "right", "asked about", "off-topic taken for a route")
    show("Routes told apart", columns, rows, chosen.json)
    wrong = [
        (route, found, count)
        for route, taken in confusion.items()
        for found, count in taken.most_common()
        if found != route and not (route == "off" and found == FALLBACK)
    ]
    show("Who was taken for whom, as written", ("meant", "taken for", "times"), wrong)
    columns = ("list", "goodbyes", "known", "others", "taken for one", "mistaken")
    show("Goodbyes", columns, [goodbyes(name) for name in LISTS])
    texts = [text for _, _, text in wordings(LISTS[0])]
    router = large_router(texts)
    router.decide("to begin with")
    took = [timed(lambda text=text: router.decide(text)) for text in texts]
    words = common_words()
    rules = "\n".join(
        f"$r{n} = {words[n % 3_000]} and [$r{n + 1}] | {words[n % 2_999]} {{{n}}};"
        for n in range(5_000)
    )
    grammar = f"#ABNF 1.0;\n{rules}\n$r5000 = end;"
    loading = [timed(lambda: check_grammar(read_abnf(grammar))) for _ in range(3)]
    pages = large_pages()
    pages.best("to begin with")
    searches = [timed(lambda text=text: pages.best(text)) for text in texts]
    figures = [
        (name, percentile(values, 0.5), percentile(values, 0.95))
        for name, values in (
            ("routing, 200 routes of 20 examples", took),
            ("reading and checking 5,000 rules", loading),
            ("searching 2,000 pages (6,000 passages)", searches),
        )
    ]
    show("Time, ms", ("what", "p50", "p95"), figures)


if __name__ == "__main__":
    main()
